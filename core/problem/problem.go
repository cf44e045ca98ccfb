// Package problem is the one shape in which Dovrak says no.
//
// An error is part of the product: a person reads it under time pressure and must learn what was asked, what was
// seen, where, which rule decided, and what to do next. Every layer makes its errors as a [Problem] where it knows
// those facts best; the network interface sends it as application/problem+json (RFC 9457), and the command line and
// the console show the same words. Kind alone decides the HTTP status and the exit code.
package problem

import (
	"errors"
	"strings"
)

// Kind says what sort of no it is. The zero value is Internal.
type Kind string

const (
	Internal      Kind = ""              // a fault of Dovrak's own
	Malformed     Kind = "malformed"     // what was asked cannot be understood
	NotSignedIn   Kind = "not-signed-in" // no token, or one that does not count any more
	NotPermitted  Kind = "not-permitted" // known, but without the permission
	NotFound      Kind = "not-found"     // nothing there, or nothing yet
	Removed       Kind = "removed"       // it was there, and is no more
	Denied        Kind = "denied"        // a registry does not let Dovrak see or do it
	Refused       Kind = "refused"       // a rule says no; nothing was changed
	Busy          Kind = "busy"          // another writer is at it; the same request may succeed later
	RegistryError Kind = "registry"      // a registry answered, and the answer is no
	Unreachable   Kind = "unreachable"   // a registry or the service could not be asked
	Altered       Kind = "altered"       // bytes that are not what their digest says
)

// Problem is an error with all that its reader needs. Every field but Title may be empty.
type Problem struct {
	Kind   Kind   `json:"kind,omitempty"`
	Title  string `json:"title"`            // one sentence without a full stop: what cannot be done
	Asked  string `json:"asked,omitempty"`  // what was asked, in the asker's words
	Seen   string `json:"seen,omitempty"`   // what was seen instead
	Where  string `json:"where,omitempty"`  // registry, repository, file and line
	Rule   string `json:"rule,omitempty"`   // the name of the rule that refused
	Remedy string `json:"remedy,omitempty"` // what would satisfy it, as something to do
	cause  error
}

// Error gives the whole problem in one line, for logs.
func (p *Problem) Error() string {
	var b strings.Builder
	b.WriteString(p.Title)
	for _, part := range []struct{ name, text string }{
		{"asked", p.Asked}, {"seen", p.Seen}, {"where", p.Where}, {"rule", p.Rule}, {"remedy", p.Remedy},
	} {
		if part.text != "" {
			b.WriteString("; " + part.name + ": " + part.text)
		}
	}
	return b.String()
}

// Unwrap gives the error below, if there is one.
func (p *Problem) Unwrap() error { return p.cause }

// Because attaches the error below and returns p.
func (p *Problem) Because(err error) *Problem {
	p.cause = err
	return p
}

// From finds the problem in err's chain. An error without one becomes an Internal problem, whose text is not for
// users: it may name things that they have no right to see.
func From(err error) *Problem {
	if p, ok := errors.AsType[*Problem](err); ok {
		return p
	}
	return (&Problem{
		Title:  "Dovrak failed at this",
		Seen:   "a fault of its own, written to the service's log",
		Remedy: "ask again; if it stays, give the request id to whoever runs the service",
	}).Because(err)
}

// Is reports whether err is a problem of the kind.
func Is(err error, kind Kind) bool {
	p, ok := errors.AsType[*Problem](err)
	return ok && p.Kind == kind
}
