package wire

import "time"

// NewBuild reports a build. The same build again gives the same record.
type NewBuild struct {
	Component  string   `json:"component"`
	Number     int64    `json:"number" description:"the pipeline's own"`
	Commit     string   `json:"commit" description:"7 to 64 hexadecimal digits"`
	Branch     string   `json:"branch"`
	Version    string   `json:"version,omitempty" description:"semantic; a promise that an image of the build keeps"`
	Link       string   `json:"link,omitempty" description:"to the pipeline's run"`
	CommitLink string   `json:"commitLink,omitempty" description:"to the commit"`
	Source     string   `json:"source,omitempty" description:"to the source repository"`
	Trigger    string   `json:"trigger,omitempty" description:"what started the run, e.g. push"`
	Base       string   `json:"base,omitempty" description:"the base image, NAME@DIGEST"`
	Changes    []Change `json:"changes,omitempty" description:"the commits since the build before, newest first"`
	Image      string   `json:"image,omitempty" description:"an index that the pipeline has pushed whole, by digest"`
}

// Change is a commit that a build has and the one before had not.
type Change struct {
	ID    string `json:"id"`
	Title string `json:"title"`
}

// Build is what one pipeline run makes of a component.
type Build struct {
	Component   string      `json:"component"`
	Number      int64       `json:"number"`
	State       string      `json:"state" enum:"open,incomplete,asked,reading,moving,joining,switching,verified,failed,given up"`
	Ended       bool        `json:"ended"`
	Commit      string      `json:"commit"`
	Branch      string      `json:"branch"`
	Version     string      `json:"version,omitempty"`
	Link        string      `json:"link,omitempty"`
	CommitLink  string      `json:"commitLink,omitempty"`
	Source      string      `json:"source,omitempty"`
	Trigger     string      `json:"trigger,omitempty"`
	Base        string      `json:"base,omitempty"`
	BaseDigest  string      `json:"baseDigest,omitempty"`
	Changes     []Change    `json:"changes"`
	Environment string      `json:"environment"`
	Places      []string    `json:"places"`
	By          string      `json:"by"`
	Reported    time.Time   `json:"reported"`
	Due         time.Time   `json:"due" description:"by then all parts are to be in"`
	EndedAt     *time.Time  `json:"endedAt,omitempty"`
	Given       string      `json:"given,omitempty" description:"the index that the pipeline pushed itself"`
	Digest      string      `json:"digest,omitempty" description:"of the image that came of it"`
	Required    []string    `json:"required" description:"platforms"`
	Optional    []string    `json:"optional" description:"platforms"`
	Missing     []string    `json:"missing" description:"of those required"`
	Parts       []BuildPart `json:"parts"`
	Tags        []BuildTag  `json:"tags"`
	Promise     *Promise    `json:"promise,omitempty"`
	Warnings    []string    `json:"warnings"`
	Before      int64       `json:"before,omitempty" description:"the build that it follows"`
	Problem     *Problem    `json:"problem,omitempty"`
	Progress    []Progress  `json:"progress"`
}

// Promise is a version that was promised an image; it is open until a digest read back from the registry keeps it.
type Promise struct {
	Version string `json:"version"`
	KeptBy  string `json:"keptBy,omitempty" description:"COMPONENT/NUMBER; left out: open"`
	Tries   int64  `json:"tries" description:"that failed"`
}

// BuildPart is the image of one platform.
type BuildPart struct {
	Platform   string    `json:"platform"`
	Repository string    `json:"repository" description:"where the runner pushed it"`
	Digest     string    `json:"digest"`
	By         string    `json:"by"`
	Reported   time.Time `json:"reported"`
	Emulated   *bool     `json:"emulated,omitempty" description:"left out: not said"`
	Seconds    *float64  `json:"seconds,omitempty"`
	Base       string    `json:"base,omitempty" description:"by its own annotations"`
	BaseDigest string    `json:"baseDigest,omitempty"`
	Size       int64     `json:"size"`
	Warnings   []string  `json:"warnings"`
}

// BuildTag is a tag that a build gets by rule.
type BuildTag struct {
	Repository string `json:"repository"`
	Tag        string `json:"tag"`
	Kind       string `json:"kind" enum:"fixed,moving,standing"`
	Rule       string `json:"rule" description:"the template"`
	Outcome    string `json:"outcome,omitempty" enum:"points,stays" description:"left out: not yet"`
	Why        string `json:"why,omitempty" description:"it stays where it is"`
	Change     int64  `json:"change,omitempty" description:"the number of the tag change"`
}

// Builds is a page of builds, newest first.
type Builds struct {
	Items []Build `json:"items"`
	Next  string  `json:"next,omitempty"`
}

// NewPart reports the image of one platform.
type NewPart struct {
	Platform string   `json:"platform"`
	Image    string   `json:"image" description:"REGISTRY/REPOSITORY@DIGEST"`
	Emulated *bool    `json:"emulated,omitempty" description:"built on another architecture"`
	Seconds  *float64 `json:"seconds,omitempty" description:"that it took"`
}

// BuildRef names a build.
type BuildRef struct {
	Component string `json:"component"`
	Number    int64  `json:"number"`
	State     string `json:"state"`
	Commit    string `json:"commit"`
	Branch    string `json:"branch"`
	Version   string `json:"version,omitempty"`
	Link      string `json:"link,omitempty"`
	Digest    string `json:"digest,omitempty"`
}

// Between is what lies between two builds of a component.
type Between struct {
	From    BuildRef      `json:"from"`
	To      BuildRef      `json:"to"`
	Changes []BuildChange `json:"changes" description:"newest first"`
}

// BuildChange is a commit that a build brought.
type BuildChange struct {
	Change
	Build int64 `json:"build"`
}

// TagRules are the rules for a component's tags along its route.
type TagRules struct {
	Component string    `json:"component"`
	Newest    int64     `json:"newest,omitempty" description:"the build that they were tried on"`
	Items     []TagRule `json:"items"`
}

// TagRule is one rule, with the tag that it makes for the newest build.
type TagRule struct {
	Environment string `json:"environment"`
	Kind        string `json:"kind" enum:"standing,fixed,moving,cache,other,unruled"`
	Template    string `json:"template,omitempty"`
	Moves       string `json:"moves,omitempty" enum:"any,forward,promotion,rollback"`
	Words       string `json:"words"`
	Tag         string `json:"tag,omitempty"`
	Why         string `json:"why,omitempty" description:"there is none"`
}

// NewJoin asks for images of single platforms to be joined into one.
type NewJoin struct {
	To      string   `json:"to" description:"REGISTRY/REPOSITORY:TAG"`
	Parts   []string `json:"parts" description:"full references"`
	Because string   `json:"because"`
}

// Join is a join by hand.
type Join struct {
	Work
	To       string     `json:"to"`
	Parts    []JoinPart `json:"parts"`
	Digest   string     `json:"digest,omitempty"`
	Warnings []string   `json:"warnings"`
}

// JoinPart is one of its parts.
type JoinPart struct {
	Platform   string `json:"platform"`
	Repository string `json:"repository"`
	Digest     string `json:"digest"`
}

// NewVouch puts evidence on record for an image.
type NewVouch struct {
	Image      string `json:"image" description:"REGISTRY/REPOSITORY@DIGEST"`
	Platform   string `json:"platform,omitempty" description:"only of the image of this platform"`
	Claim      string `json:"claim" description:"such as scan"`
	Verdict    string `json:"verdict" enum:"passed,failed,noted"`
	Link       string `json:"link,omitempty"`
	Note       string `json:"note,omitempty"`
	Report     []byte `json:"report,omitempty" description:"at most 4 MiB"`
	ReportName string `json:"reportName,omitempty"`
	For        string `json:"for,omitempty" description:"how long it counts, as 720h; left out: for ever"`
}

// Vouch is evidence on record.
type Vouch struct {
	Number     int64      `json:"number"`
	Digest     string     `json:"digest"`
	Repository string     `json:"repository"`
	Platform   string     `json:"platform,omitempty"`
	Claim      string     `json:"claim"`
	Verdict    string     `json:"verdict" enum:"passed,failed,noted"`
	Link       string     `json:"link,omitempty"`
	Note       string     `json:"note,omitempty"`
	Report     string     `json:"report,omitempty" description:"the name of the report that was handed in"`
	ReportSize int64      `json:"reportSize"`
	By         string     `json:"by"`
	At         time.Time  `json:"at"`
	Expires    *time.Time `json:"expires,omitempty"`
	Expired    bool       `json:"expired"`
}

// Attestation is an in-toto statement found beside an image.
type Attestation struct {
	Digest    string `json:"digest"`
	Of        string `json:"of" description:"what it was found attached to"`
	Predicate string `json:"predicate,omitempty"`
	Builder   string `json:"builder,omitempty"`
	Fits      bool   `json:"fits" description:"it names that digest as its subject"`
	Key       string `json:"key,omitempty" description:"of the charter, that verifies its signature; left out: unverified"`
	Problem   string `json:"problem,omitempty" description:"why it cannot be read"`
}

// PipelineSignIn trades a token of a pipeline's own issuer for one of Dovrak's.
type PipelineSignIn struct {
	Token string `json:"token"`
}

// PipelineSession is what the pipeline gets; its token is shown this once.
type PipelineSession struct {
	Number     int64     `json:"number"`
	Token      string    `json:"token"`
	Name       string    `json:"name"`
	Components []string  `json:"components" description:"that it may report for"`
	Expires    time.Time `json:"expires"`
}
