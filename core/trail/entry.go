// Package trail makes the entries of the audit history, and the Merkle log that holds them together.
//
// An entry is written once, as canonical bytes: JSON with its keys in order, nothing in it that two writers could
// write differently. Its place in the log is the hash of those bytes (RFC 6962, by golang.org/x/mod/sumdb/tlog). What
// is personal (who, and the words they gave) stands in the bytes as a salted commitment only; the opening lies
// elsewhere and can be destroyed without touching the log.
package trail

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"golang.org/x/mod/sumdb/tlog"
)

// Version of the canonical form. An entry keeps the version it was written in.
const Version = 1

// MaxEntry is the largest entry, in bytes.
const MaxEntry = 64 << 10

// Act says what happened. Its words are shown to people.
type Act string

// The acts there are.
const (
	TagPointed       Act = "tag pointed"     // a tag change was asked of the registry and is seen there
	TagNotPointed    Act = "tag not pointed" // it was asked, and the registry shows that it did not happen
	TagOvertaken     Act = "tag overtaken"   // it was asked, and someone else's change is seen there
	TagUnknown       Act = "tag unknown"     // it was asked, and nobody can say what came of it
	ImageCopied      Act = "image copied"    // every piece is there and was verified
	CopyStopped      Act = "copy stopped"    // what had arrived is kept
	CopyResumed      Act = "copy resumed"
	PromotionAsked   Act = "promotion asked"       // with its plan
	PromotionRefused Act = "promotion refused"     // when it was asked; nothing was changed
	PromotionJudged  Act = "promotion judged anew" // what it is bound to has changed since it was asked
	Approved         Act = "promotion approved"    // by one of those who were to agree
	Declined         Act = "promotion declined"
	PromotionStopped Act = "promotion stopped" // while it waited
	PromotionDone    Act = "promotion done"    // every place was asked again and holds
	PromotionEnded   Act = "promotion failed"  // it could not be done; the state says what did happen
	PromotionBack    Act = "switch taken back" // a place failed, and every tag means again what it did before
	PromotionSplit   Act = "switch split"      // a place failed, and another could not go back
	PromotionResumed Act = "promotion resumed"
	TakeBackAsked    Act = "taking back asked"  // of a split
	Reviewed         Act = "promotion reviewed" // an emergency, or one that skipped an environment, by someone else afterwards
	RollBackAsked    Act = "roll back asked"
	RollBackRefused  Act = "roll back refused"
	RollBackDone     Act = "roll back done" // every place was asked again and holds
	RollBackEnded    Act = "roll back failed"
	TagRestored      Act = "tag restored" // by a switch that went back
	CharterAdopted   Act = "charter adopted"
	CharterProposed  Act = "charter proposed" // it waits for people to agree
	CharterApproved  Act = "charter approved" // by one of those
	CharterDeclined  Act = "charter declined"
	RegistryAdded    Act = "registry added"
	RegistryEdited   Act = "registry edited"
	RegistryDropped  Act = "registry dropped"
	Declared         Act = "repository declared"   // Dovrak may write there
	Undeclared       Act = "repository undeclared" // it may no more
	TagRemoved       Act = "tag removed"           // it was taken away, and is seen to mean nothing
	TagFound         Act = "tag found"             // found, not decided: what a tag meant when its registry was taken in
	GapAllowed       Act = "gap allowed"           // tags need not mean the same in every place
	GapEnded         Act = "gap ended"             // they must again
	TakenIn          Act = "registry taken in"     // what it held was read; nothing was changed
	TagStays         Act = "tag stays"             // a build's moving tag, which its rule did not let move to that build
	BuildReported    Act = "build reported"
	BuildJoined      Act = "build joined"     // all its parts are one image, tagged by rule
	BuildFailed      Act = "build failed"     // a try of it; the build can be closed again
	BuildIncomplete  Act = "build incomplete" // its time is over, and parts are missing
	BuildGivenUp     Act = "build given up"   // another build took over the version it had promised
	PartsJoined      Act = "parts joined"     // by hand
	Vouched          Act = "vouched"          // evidence was put on record
	PipelineIn       Act = "pipeline signed in"
	PersonIn         Act = "person signed in"
	PersonAdded      Act = "person added" // with an account of Dovrak's own
	PersonEdited     Act = "person edited"
	PersonInvited    Act = "person invited"   // to set a password anew
	PasswordSet      Act = "password set"     // by an invitation
	RightsWithdrawn  Act = "rights withdrawn" // all of a person's
	RightsRestored   Act = "rights given back"
	TokenIssued      Act = "token issued"
	TokenRevoked     Act = "token revoked"
)

// Entry is one thing that happened. At is the database's time, kept to the microsecond, in UTC.
type Entry struct {
	ID     string
	At     time.Time
	Act    Act
	Facts  map[string]string // what anyone who may read the trail may know; no empty values
	Sealed map[string]string // field → hex commitment
}

// Opening reveals a sealed field. Salt is 16 random bytes.
type Opening struct {
	Field string
	Salt  []byte
	Value string
}

// Seal commits the entry to a personal value and gives the opening to keep elsewhere.
func (e *Entry) Seal(field, value string) Opening {
	o := Opening{Field: field, Salt: make([]byte, 16), Value: value}
	rand.Read(o.Salt) // never fails: crypto/rand aborts the program instead
	if e.Sealed == nil {
		e.Sealed = map[string]string{}
	}
	e.Sealed[field] = o.commitment()
	return o
}

// Opens reports whether the opening is the one that the entry was sealed with.
func (e Entry) Opens(o Opening) bool {
	return subtle.ConstantTimeCompare([]byte(e.Sealed[o.Field]), []byte(o.commitment())) == 1
}

// commitment is SHA-256 over salt, field name, a zero byte and the value: the name, so that one field's opening
// cannot be passed off as another's.
func (o Opening) commitment() string {
	h := sha256.New()
	h.Write(o.Salt)
	h.Write([]byte(o.Field))
	h.Write([]byte{0})
	h.Write([]byte(o.Value))
	return hex.EncodeToString(h.Sum(nil))
}

type wire struct {
	V      int               `json:"v"`
	ID     string            `json:"id"`
	At     string            `json:"at"`
	Act    Act               `json:"act"`
	Facts  map[string]string `json:"facts,omitempty"`
	Sealed map[string]string `json:"sealed,omitempty"`
}

const stamp = "2006-01-02T15:04:05.000000Z"

// Bytes is the canonical form. encoding/json writes the keys of a map in order.
func (e Entry) Bytes() ([]byte, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(wire{Version, e.ID, e.At.UTC().Format(stamp), e.Act, e.Facts, e.Sealed}); err != nil {
		return nil, err
	}
	out := bytes.TrimSuffix(b.Bytes(), []byte("\n"))
	if len(out) > MaxEntry {
		return nil, fmt.Errorf("trail: an entry of %d bytes, more than 64 KiB", len(out))
	}
	return out, nil
}

// Read reads canonical bytes back, and refuses any that this package would not have written.
func Read(raw []byte) (Entry, error) {
	var w wire
	if err := json.Unmarshal(raw, &w); err != nil {
		return Entry{}, fmt.Errorf("trail: not an entry: %w", err)
	}
	if w.V != Version {
		return Entry{}, fmt.Errorf("trail: an entry of version %d; this program reads %d", w.V, Version)
	}
	at, err := time.Parse(stamp, w.At)
	if err != nil {
		return Entry{}, fmt.Errorf("trail: %w", err)
	}
	e := Entry{w.ID, at, w.Act, w.Facts, w.Sealed}
	again, err := e.Bytes()
	if err != nil {
		return Entry{}, err
	}
	if !bytes.Equal(raw, again) {
		return Entry{}, fmt.Errorf("trail: entry %s is not in its canonical form", w.ID)
	}
	return e, nil
}

// Hashes gives the hashes to store when entry number n (from 0) joins the log, to be kept from position
// [tlog.StoredHashIndex](0, n) on. before reads hashes stored earlier.
func Hashes(n int64, raw []byte, before tlog.HashReader) ([]tlog.Hash, error) {
	return tlog.StoredHashes(n, raw, before)
}
