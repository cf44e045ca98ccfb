package registry

import (
	"context"
	"errors"
	"io"
	"time"
)

var errStalled = errors.New("nothing moved on the connection for longer than is waited")

// watchdog ends an exchange on which nothing moves: neither a byte of the request's body, nor the answer, nor a byte
// of the answer's body. A total deadline would punish large layers on slow lines; this does not.
type watchdog struct {
	ctx    context.Context
	cancel context.CancelCauseFunc
	timer  *time.Timer
	after  time.Duration
}

func watch(ctx context.Context, after time.Duration) (context.Context, *watchdog) {
	ctx, cancel := context.WithCancelCause(ctx)
	d := &watchdog{ctx: ctx, cancel: cancel, after: after}
	d.timer = time.AfterFunc(after, func() { cancel(errStalled) })
	return ctx, d
}

func (d *watchdog) touch() { d.timer.Reset(d.after) }

func (d *watchdog) release() {
	d.timer.Stop()
	d.cancel(nil)
}

// cause gives the stall as the reason of an error that it led to.
func (d *watchdog) cause(err error) error {
	if errors.Is(context.Cause(d.ctx), errStalled) {
		return errStalled
	}
	return err
}

func (d *watchdog) reader(r io.Reader) io.Reader { return watched{d, r} }

func (d *watchdog) body(rc io.ReadCloser) io.ReadCloser {
	d.touch()
	return watchedBody{watched{d, rc}, rc}
}

type watched struct {
	d *watchdog
	r io.Reader
}

func (w watched) Read(p []byte) (int, error) {
	n, err := w.r.Read(p)
	if n > 0 {
		w.d.touch()
	}
	if err != nil && err != io.EOF {
		err = w.d.cause(err)
	}
	return n, err
}

type watchedBody struct {
	watched
	c io.Closer
}

func (w watchedBody) Close() error {
	err := w.c.Close()
	w.d.release()
	return err
}
