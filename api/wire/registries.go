package wire

import "time"

// RegistrySettings are what is asked of a connection. What is left out stays as it is, or takes its default. A credential
// is an account with its secret, or the name of a secret source, or none.
type RegistrySettings struct {
	Address           *string           `json:"address,omitempty" description:"scheme, host and port"`
	CA                *string           `json:"ca,omitempty" description:"in PEM, of a CA of one's own; empty: the system's trust"`
	ClientCert        *string           `json:"clientCert,omitempty" description:"in PEM; empty takes it away"`
	ClientKey         *string           `json:"clientKey,omitempty" description:"in PEM; sealed, and never shown again"`
	Plain             *bool             `json:"plain,omitempty" description:"plain HTTP to another machine"`
	Account           *string           `json:"account,omitempty"`
	Secret            *string           `json:"secret,omitempty" description:"sealed, and never shown again"`
	SecretSource      *string           `json:"secretSource,omitempty" description:"declared in the server's settings, by name"`
	Anonymous         bool              `json:"anonymous,omitempty" description:"no credential from now on"`
	SignInHosts       *[]string         `json:"signInHosts,omitempty" description:"other hosts to which the sign-in may send the credential"`
	Labels            map[string]string `json:"labels,omitempty" description:"each is set, or taken away where it is empty"`
	RequestsPerSecond *float64          `json:"requestsPerSecond,omitempty"`
	TransfersAtOnce   *int              `json:"transfersAtOnce,omitempty"`
	BytesPerSecond    *int64            `json:"bytesPerSecond,omitempty" description:"of layers, from it and to it; 0 is no limit"`
	UnverifiedOwner   *string           `json:"unverifiedOwner,omitempty" description:"who answers for certificates that go unchecked; empty ends that"`
	UnverifiedUntil   *time.Time        `json:"unverifiedUntil,omitempty" description:"at most 31 days from now"`
}

// NewRegistry asks for a registry to be connected.
type NewRegistry struct {
	Name string `json:"name"`
	RegistrySettings
}

// Registry is a connected registry, without its secrets.
type Registry struct {
	Name              string            `json:"name"`
	Address           string            `json:"address"`
	OwnCA             bool              `json:"ownCA"`
	ClientCert        bool              `json:"clientCert"`
	Plain             bool              `json:"plain"`
	Account           string            `json:"account,omitempty"`
	SecretSource      string            `json:"secretSource,omitempty"`
	SignInHosts       []string          `json:"signInHosts"`
	Labels            map[string]string `json:"labels"`
	RequestsPerSecond float64           `json:"requestsPerSecond"`
	TransfersAtOnce   int               `json:"transfersAtOnce"`
	BytesPerSecond    int64             `json:"bytesPerSecond" description:"of layers; 0 is no limit"`
	Exception         *Exception        `json:"exception,omitempty"`
	Connected         time.Time         `json:"connected"`
	Edited            time.Time         `json:"edited"`
	Checks            []RegistryCheck   `json:"checks" description:"the newest of each repository, newest first"`
}

// Exception lets a registry's certificates go unchecked for a while.
type Exception struct {
	Owner  string    `json:"owner"`
	Until  time.Time `json:"until"`
	Counts bool      `json:"counts" description:"whether it counts now"`
}

// Registries are all that are connected.
type Registries struct {
	Items []Registry `json:"items"`
}

// NewCheck says what to check.
type NewCheck struct {
	Repository string   `json:"repository,omitempty" description:"without the registry; one that the charter names, if left out"`
	For        []string `json:"for,omitempty" description:"pull, push, delete; pull and push if left out"`
}

// RegistryCheck is what a registry was seen to permit.
type RegistryCheck struct {
	Registry   string      `json:"registry"`
	Repository string      `json:"repository,omitempty"`
	At         time.Time   `json:"at"`
	Steps      []CheckStep `json:"steps"`
}

// CheckStep is one thing that was checked.
type CheckStep struct {
	Name   string `json:"name"`
	Result string `json:"result"           enum:"holds,fails,absent,cannot tell,not tried"`
	Seen   string `json:"seen"`
	Remedy string `json:"remedy,omitempty"`
	Micros int64  `json:"micros" description:"how long it was waited for, in microseconds"`
}

// NewDestination declares a repository that Dovrak may write to.
type NewDestination struct {
	Repository string `json:"repository" description:"REGISTRY/REPOSITORY"`
	Owner      string `json:"owner" description:"who answers for it"`
	Tags       string `json:"tags,omitempty" description:"whether a tag can be overwritten; left out: not known" enum:"moving,fixed"`
}

// Destination is a repository that Dovrak may write to. What is left out is not known.
type Destination struct {
	Repository  string     `json:"repository"`
	Component   string     `json:"component,omitempty"`
	Environment string     `json:"environment,omitempty" description:"of a place of the charter"`
	Owner       string     `json:"owner,omitempty" description:"of one declared by hand"`
	By          string     `json:"by,omitempty"`
	At          *time.Time `json:"at,omitempty"`
	Tags        string     `json:"tags,omitempty"                                                enum:"moving,fixed"`
	Public      *bool      `json:"public,omitempty"`
	There       *bool      `json:"there,omitempty"`
	Seen        *time.Time `json:"seen,omitempty"`
}

// Destinations are all of them: the charter's places first.
type Destinations struct {
	Items []Destination `json:"items"`
}

// NewTakeIn asks for what a registry holds to be read.
type NewTakeIn struct {
	Repository string `json:"repository,omitempty" description:"a pattern with * and ?; left out: all that the registry lists"`
}

// TakeIn is the reading of what a registry holds. Nothing is changed by it.
type TakeIn struct {
	Work
	Registry     string            `json:"registry"`
	Pattern      string            `json:"pattern,omitempty"`
	Repositories []TakenRepository `json:"repositories"`
	Report       *TakenIn          `json:"report,omitempty"  description:"when it has ended"`
}

// TakenRepository is how far one repository is.
type TakenRepository struct {
	Repository string `json:"repository"`
	Tags       int64  `json:"tags"`
	Entries    int64  `json:"entries" description:"first entries that were written on the trail: found, not decided"`
	Done       bool   `json:"done"`
	Problem    string `json:"problem,omitempty" description:"why it could not be read"`
}

// TakenIn is what was found.
type TakenIn struct {
	Repositories int64           `json:"repositories"`
	Tags         int64           `json:"tags"`
	Images       int64           `json:"images"`
	Size         int64           `json:"size" description:"each image once"`
	Platforms    []TakenPlatform `json:"platforms"`
	Sharing      int64           `json:"sharing" description:"tags whose image another tag of the repository means, too"`
	Untagged     int64           `json:"untagged" description:"images that were seen before, that no tag means, and that are there still"`
	Unruled      int64           `json:"unruled" description:"tags whose names no rule of the charter could have made"`
	Unreadable   int64           `json:"unreadable"`
	Examples     []string        `json:"examples" description:"of tags that no rule could have made"`
}

// TakenPlatform is for how many images there is one for a platform.
type TakenPlatform struct {
	Platform string `json:"platform"`
	Images   int64  `json:"images"`
}

// TakeIns is a page of them, newest first.
type TakeIns struct {
	Items []TakeIn `json:"items"`
	Next  string   `json:"next,omitempty"`
}
