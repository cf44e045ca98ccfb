//go:build !failpoints

// Package failpoint names the moments at which a test may strike. In the program that is shipped every point is
// nothing at all; built with the tag "failpoints", [At] kills the process or holds it at the point that the
// environment names, and leaves a mark that it did, so that a test knows where its blow landed.
package failpoint

import "context"

// At is a named moment. It gives an error where the test wants the step behind it to fail.
func At(context.Context, string) error { return nil }
