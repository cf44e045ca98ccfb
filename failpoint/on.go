//go:build failpoints

// Package failpoint, in the build for tests: DOVRAK_FAILPOINT is "NAME=kill" (SIGKILL to the own process) or
// "NAME=hold" (until ctx ends), with "NAME:3" in place of the name for the third time that it is passed; the file named by
// DOVRAK_FAILPOINT_MARK is written first. A point strikes once: a mark that is there already means that it did.
package failpoint

import (
	"context"
	"errors"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
)

// passed counts how often the point was passed.
var passed atomic.Int64

// At is a named moment.
func At(ctx context.Context, name string) error {
	point, how, _ := strings.Cut(os.Getenv("DOVRAK_FAILPOINT"), "=")
	point, time, _ := strings.Cut(point, ":")
	if point != name {
		return nil
	}
	if n := passed.Add(1); time != "" && strconv.FormatInt(n, 10) != time {
		return nil
	}
	f, err := os.OpenFile(os.Getenv("DOVRAK_FAILPOINT_MARK"), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, os.ErrExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	if how == "kill" {
		if err := syscall.Kill(os.Getpid(), syscall.SIGKILL); err != nil {
			return err
		}
	}
	<-ctx.Done() // held, or dying
	return ctx.Err()
}
