package wire

import "time"

// CharterInWords is a version of the charter as people read it.
type CharterInWords struct {
	Version      int64            `json:"version"`
	InForce      bool             `json:"inForce"`
	Adopted      time.Time        `json:"adopted"`
	By           string           `json:"by"`
	Organisation string           `json:"organisation"`
	Changes      []string         `json:"changes" description:"against the version before"`
	Routes       []RouteInWords   `json:"routes"`
	Components   []ComponentRules `json:"components"`
	Environments []EnvironRules   `json:"environments" description:"in the order of the routes"`
	Groups       []GroupRules     `json:"groups"`
	People       string           `json:"people"   description:"where they sign in"`
	Adoption     string           `json:"adoption" description:"who must agree to the next charter"`
	Now          time.Time        `json:"now"`
	From         time.Time        `json:"from" description:"of the freezes' times"`
	To           time.Time        `json:"to"`
}

// RouteInWords is a route and the components that take it.
type RouteInWords struct {
	Name         string   `json:"name"`
	Environments []string `json:"environments"`
}

// ComponentRules is what a component must be.
type ComponentRules struct {
	Name      string   `json:"name"`
	Route     string   `json:"route"`
	Platforms []string `json:"platforms"`
	Optional  []string `json:"optional"`
}

// EnvironRules is what an environment asks of whom.
type EnvironRules struct {
	Name      string        `json:"name"`
	Comes     string        `json:"comes" description:"where its images come from"`
	Tags      []string      `json:"tags"`
	Places    []string      `json:"places"`
	Promote   string        `json:"promote"`
	Approvals string        `json:"approvals"`
	Emergency string        `json:"emergency,omitempty" description:"left out: there is none"`
	Skipping  string        `json:"skipping,omitempty" description:"who must agree where an environment is skipped; left out: as ever"`
	RollBack  string        `json:"rollBack,omitempty" description:"left out: nothing is promoted there"`
	Switch    string        `json:"switch,omitempty" description:"what is done where a place fails"`
	Waits     string        `json:"waits"`
	Gates     []GateRule    `json:"gates"`
	Freezes   []FreezeTimes `json:"freezes"`
}

// GateRule is a gate by its name, and what it asks for.
type GateRule struct {
	Name string `json:"name"`
	Asks string `json:"asks"`
}

// FreezeTimes is a freeze with when it holds.
type FreezeTimes struct {
	Name  string `json:"name"`
	When  string `json:"when"`
	Spans []Span `json:"spans"`
}

// Span is a time from one moment to another, which is not in it.
type Span struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
}

// GroupRules is who is in a group, and what they may besides what environments let them do.
type GroupRules struct {
	Name    string   `json:"name"`
	Claims  []string `json:"claims"`
	Members []string `json:"members"`
	May     []string `json:"may"`
}

// CharterVersions is a page of the charter's versions, newest first.
type CharterVersions struct {
	Items []AdoptedCharter `json:"items"`
	Next  string           `json:"next,omitempty"`
}

// AdoptedCharter is a version with who adopted it.
type AdoptedCharter struct {
	Version int64     `json:"version"`
	Adopted time.Time `json:"adopted"`
	By      string    `json:"by"`
}

// Proposal is a charter that waits, or waited, for people to agree.
type Proposal struct {
	Number  int64      `json:"number"`
	State   string     `json:"state" enum:"waiting,adopted,declined,overtaken"`
	Base    int64      `json:"base" description:"the version in force when it was proposed"`
	Version int64      `json:"version,omitempty" description:"that it became"`
	By      string     `json:"by"`
	Because string     `json:"because"`
	Asked   time.Time  `json:"asked"`
	Ended   *time.Time `json:"ended,omitempty"`
}

// ProposalInWords is a proposed charter with what it changes and what was said of it.
type ProposalInWords struct {
	Proposal
	Document string   `json:"document"`
	Changes  []string `json:"changes"`
	Said     []Said   `json:"said"`
	Agreed   string   `json:"agreed" description:"who has agreed, in words"`
	Wants    string   `json:"wants,omitempty"`
	MaySay   bool     `json:"maySay"`
	WhyNot   string   `json:"whyNot,omitempty"`
}

// Proposals is a page of proposed charters, newest first.
type Proposals struct {
	Items []Proposal `json:"items"`
	Next  string     `json:"next,omitempty"`
}

// Rehearsal is what a charter would change for the next promotions.
type Rehearsal struct {
	Items []Rehearsed `json:"items"`
}

// Rehearsed is what would become of a component's next promotion to an environment.
type Rehearsed struct {
	Component   string `json:"component"`
	Environment string `json:"environment"`
	Now         string `json:"now"  description:"by the charter in force: goes, waits: …, refused: …"`
	Then        string `json:"then" description:"by the other one"`
}

// PlaceChecks is what registries say of the places that a charter names.
type PlaceChecks struct {
	Items []PlaceCheck `json:"items"`
}

// PlaceCheck is one of them.
type PlaceCheck struct {
	Component   string   `json:"component"`
	Environment string   `json:"environment"`
	Repository  string   `json:"repository"`
	Fails       *Problem `json:"fails,omitempty" description:"why images cannot be kept there; left out: they can"`
}

// Remark is why someone agrees to something or declines it.
type Remark struct {
	Remark string `json:"remark" description:"it goes on the trail"`
}
