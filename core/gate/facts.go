package gate

import "time"

// Facts are what is known when a promotion is judged. In conditions they have the names in the tags: image.size,
// build.branch, standing.version. What is not known is empty, and a condition that needs it cannot tell.
type Facts struct {
	Component   string
	Environment string // where it is to go
	From        string // where it comes from
	Now         time.Time
	Requester   string
	Image       Image
	Build       Build
	Standing    Standing
	Evidence    []Evidence
	Stood       map[string]time.Time // environment → since when the image has stood there; one where it does not is left out
	Required    []string             // platforms that the component must have
}

// Image is what is to be promoted. Size is of all its platforms together, in bytes, each layer once.
type Image struct {
	Digest      string            `cel:"digest"`
	Version     string            `cel:"version"`
	Size        int64             `cel:"size"`
	Platforms   []string          `cel:"platforms"`
	Labels      map[string]string `cel:"labels"` // those that all its platforms have alike
	Annotations map[string]string `cel:"annotations"`
	Base        string            `cel:"base"`      // the name of what it is built on
	BaseMade    time.Time         `cel:"base_made"` // when that was made; zero is not known
	Created     time.Time         `cel:"created"`   // zero is not known
}

// Build is what a pipeline reported. Known is false where no report is.
type Build struct {
	Known    bool      `cel:"known"`
	Number   int64     `cel:"number"`
	Branch   string    `cel:"branch"`
	Commit   string    `cel:"commit"`
	Started  time.Time `cel:"started"`
	Attested bool      `cel:"attested"` // a verified attestation says how it was built
}

// Standing is what stands in the environment now. Digest is empty where nothing does.
type Standing struct {
	Digest  string `cel:"digest"`
	Version string `cel:"version"`
	Size    int64  `cel:"size"`
}

// Evidence is what someone has vouched for.
type Evidence struct {
	Claim   string    `cel:"claim"`
	Passed  bool      `cel:"passed"`
	By      string    `cel:"by"`
	At      time.Time `cel:"at"`
	Expires time.Time `cel:"expires"` // zero: never
}

// valid reports whether it counts now.
func (e Evidence) valid(now time.Time) bool { return e.Expires.IsZero() || now.Before(e.Expires) }
