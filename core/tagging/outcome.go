package tagging

import "github.com/opencontainers/go-digest"

// Outcome of a tag change, by what the registry said afterwards.
type Outcome string

// The outcomes there are. Open means that it cannot be told yet: an answer is missing, and the request may still arrive.
const (
	Open      Outcome = ""
	Done      Outcome = "done"
	NotDone   Outcome = "not done"
	Overtaken Outcome = "overtaken"
	Unknown   Outcome = "unknown"
)

// Answer is how the request to point the tag ended.
type Answer int

// The ways it can end. A dead writer's request counts as Refused once its deadline is over: it cannot arrive any more.
const (
	Accepted Answer = iota
	Refused
	NoAnswer
)

// Resolve tells what came of a change from what the tag is seen to mean afterwards.
func Resolve(from, to, seen digest.Digest, answer Answer) Outcome {
	switch {
	case seen == to:
		return Done
	case answer == NoAnswer || answer == Accepted && seen == from: // a registry may show what was for a while
		return Open
	case answer == Refused && seen == from:
		return NotDone
	}
	return Overtaken
}
