// Package wire is what the API and its clients say to one another: the JSON of requests and answers. A field without
// omitempty is always there. Times are RFC 3339 in UTC, sizes are bytes, digests are whole.
package wire

import "time"

// Problem is an error by RFC 9457, with what a person needs to go on.
type Problem struct {
	Type      string `json:"type"                description:"urn:dovrak:problem:KIND"`
	Title     string `json:"title"`
	Status    int    `json:"status"`
	Kind      string `json:"kind"                description:"such as malformed, not-found, refused, unreachable"`
	Asked     string `json:"asked,omitempty"`
	Seen      string `json:"seen,omitempty"`
	Where     string `json:"where,omitempty"`
	Rule      string `json:"rule,omitempty"`
	Remedy    string `json:"remedy,omitempty"`
	RequestID string `json:"requestId,omitempty"`
}

// Actor is who is signed in.
type Actor struct {
	Name    string    `json:"name"`
	Kind    string    `json:"kind"    enum:"person,pipeline,service"`
	May     []string  `json:"may"`
	For     []string  `json:"for,omitempty" description:"the components that report is for; left out: all"`
	Expires time.Time `json:"expires"`

	Groups      []string `json:"groups"     description:"by the charter in force"`
	PromotesIn  []string `json:"promotesIn" description:"environments whose rules name one of the groups"`
	RollsBackIn []string `json:"rollsBackIn" description:"likewise"`
	ApprovesIn  []string `json:"approvesIn" description:"likewise"`
}

// SignIn trades a token, or the name and password of an account, for a session.
type SignIn struct {
	Token    string `json:"token,omitempty"`
	Name     string `json:"name,omitempty"`
	Password string `json:"password,omitempty"`
}

// NewToken asks for a token.
type NewToken struct {
	Name string   `json:"name"`
	Kind string   `json:"kind" enum:"person,pipeline"`
	May  []string `json:"may"`
	For  string   `json:"for"                         description:"how long, as 12h or 720h"`

	Components []string `json:"components,omitempty" description:"that a pipeline reports for; left out: all"`
}

// IssuedToken is a new token; its secret is shown this once.
type IssuedToken struct {
	Number  int64     `json:"number"`
	Token   string    `json:"token"`
	Expires time.Time `json:"expires"`
}

// Token is a token without its secret.
type Token struct {
	Number  int64      `json:"number"`
	Name    string     `json:"name"`
	Kind    string     `json:"kind"`
	Created time.Time  `json:"created"`
	Expires time.Time  `json:"expires"`
	Revoked *time.Time `json:"revoked,omitempty"`
}

// Tokens is a page of tokens. Next is there where more follow.
type Tokens struct {
	Items []Token `json:"items"`
	Next  string  `json:"next,omitempty"`
}

// CharterDocument is a charter to be adopted.
type CharterDocument struct {
	Document string `json:"document" description:"the YAML itself"`
	Because  string `json:"because,omitempty" description:"for those who must agree, where the charter in force says so"`
}

// Charter is an adopted version.
type Charter struct {
	Version  int64     `json:"version"`
	Document string    `json:"document"`
	Adopted  time.Time `json:"adopted"`
}

// CharterVersion names the version now in force.
type CharterVersion struct {
	Changes []string `json:"changes" description:"against the version before, in words; none where it was in force already"`
	Version int64    `json:"version" description:"0: it waits as a proposal"`

	Proposal int64 `json:"proposal,omitempty" description:"its number, where others must agree first"`
}

// NewPoint asks for tags to be pointed at an image.
type NewPoint struct {
	Image   string   `json:"image"   description:"REGISTRY/REPOSITORY@DIGEST"`
	Tags    []string `json:"tags"`
	Because string   `json:"because"`
}

// TagChange is what came of pointing one tag.
type TagChange struct {
	Tag     string    `json:"tag"`
	From    string    `json:"from,omitempty"`
	To      string    `json:"to"`
	Changed bool      `json:"changed"          description:"false where it meant the digest already"`
	Number  int64     `json:"number,omitempty"`
	At      time.Time `json:"at"`
}

// TagChanges is what came of pointing tags.
type TagChanges struct {
	Items []TagChange `json:"items"`
}

// NewCopy asks for an image to be copied.
type NewCopy struct {
	From    string   `json:"from"              description:"a full reference"`
	To      []string `json:"to"                description:"REGISTRY/REPOSITORY, or REGISTRY/REPOSITORY:TAG to point the tag there at the end"`
	Verify  bool     `json:"verify,omitempty"  description:"ask for every piece again"`
	Because string   `json:"because,omitempty" description:"required where a tag is pointed"`

	Referrers string   `json:"referrers,omitempty" description:"what goes along of all that refers to it: all (if left out), none, or an artifact type"`
	Platforms []string `json:"platforms,omitempty" description:"only these; left out: the whole"`
}

// CopyPlan is what a copy would move.
type CopyPlan struct {
	From      string          `json:"from"`
	Asked     string          `json:"asked" description:"the image that was asked for"`
	Digest    string          `json:"digest" description:"of what arrives; another than asked where only some platforms are copied"`
	Made      bool            `json:"made" description:"a new index is written for those platforms"`
	Referrers []CopyReferrer  `json:"referrers" description:"what goes along because it refers to the image"`
	Places    []CopyPlacePlan `json:"places"`
}

// CopyPlacePlan is what would be done at one destination.
type CopyPlacePlan struct {
	To        string      `json:"to"`
	Means     string      `json:"means,omitempty" description:"the digest that the tag means there now"`
	Manifests []CopyPiece `json:"manifests" description:"in the order in which they are put"`
	Blobs     []CopyPiece `json:"blobs"`
	Move      int         `json:"move" description:"pieces; what is to be mounted is counted, too"`
	MoveBytes int64       `json:"moveBytes"`
	Mount     int         `json:"mount" description:"of those, pieces that a sibling repository holds"`

	MountBytes   int64 `json:"mountBytes"`
	Present      int   `json:"present" description:"pieces"`
	PresentBytes int64 `json:"presentBytes"`
}

// CopyPiece is a manifest or a blob.
type CopyPiece struct {
	Digest    string `json:"digest"`
	MediaType string `json:"mediaType"`
	Size      int64  `json:"size"`
	What      string `json:"what" enum:"move,mount,present,foreign,moving,moved,mounted,sent" description:"move, mount: to be done; foreign: lies elsewhere by its media type, and is left there; sent: by another copy at the same time"`
	From      string `json:"from,omitempty" description:"the sibling repository from which it is to be mounted"`
	Moved     int64  `json:"moved,omitempty" description:"bytes, of one that is moving"`
}

// CopyReferrer is something that refers to the image, or to what does.
type CopyReferrer struct {
	Digest  string `json:"digest"`
	Subject string `json:"subject"`
	Type    string `json:"type,omitempty"`
}

// Progress is how far one place is.
type Progress struct {
	Repository string `json:"repository"`
	Moved      int64  `json:"moved"`
	Mounted    int64  `json:"mounted" description:"from a sibling repository, without moving"`
	Total      int64  `json:"total" description:"to move or mount"`
	Present    int64  `json:"present"`
	Pieces     int    `json:"pieces"`
	Rate       int64  `json:"rate" description:"bytes a second, of late"`
	Problem    string `json:"problem,omitempty" description:"why this place was given up"`
}

// Work is what copies and promotions have in common.
type Work struct {
	Number   int64      `json:"number"`
	State    string     `json:"state"             enum:"asked,judged,waiting,reading,moving,joining,ready,switching,going back,split,taken back,verified,failed,stopped,refused,declined,expired"`
	Ended    bool       `json:"ended"`
	By       string     `json:"by"`
	Asked    time.Time  `json:"asked"`
	Began    *time.Time `json:"began,omitempty"`
	EndedAt  *time.Time `json:"endedAt,omitempty"`
	Progress []Progress `json:"progress"`
	Requests int64      `json:"requests" description:"to registries, so far"`
	Problem  *Problem   `json:"problem,omitempty"`
}

// Copy is a copy.
type Copy struct {
	Work
	From   string      `json:"from"`
	Digest string      `json:"digest"`
	Verify bool        `json:"verify"`
	Places []CopyPlace `json:"places"`

	Of        string   `json:"of,omitempty" description:"the image that was asked for, where only some of its platforms are copied"`
	Platforms []string `json:"platforms,omitempty" description:"those; left out: the whole"`
	Referrers string   `json:"referrers" description:"all, none, or an artifact type"`
	Attached  int      `json:"attached" description:"how many went along because they refer to it"`
}

// CopyPlace is one destination of a copy.
type CopyPlace struct {
	To     string      `json:"to"`
	Pieces []CopyPiece `json:"pieces,omitempty" description:"blobs first, then manifests in the order in which they are put; left out in lists, and before the destination was asked"`
}

// Copies is a page of copies.
type Copies struct {
	Items []Copy `json:"items"`
	Next  string `json:"next,omitempty"`
}

// NewPromotion asks for a promotion.
type NewPromotion struct {
	Component string `json:"component"`
	To        string `json:"to"        description:"the environment"`
	Because   string `json:"because"`
	Referrers string `json:"referrers,omitempty" description:"what goes along of all that refers to it: all (if left out), none, or an artifact type"`
	Emergency bool   `json:"emergency,omitempty" description:"freezes do not hold for it, and others must agree"`
	Again     bool   `json:"again,omitempty"     description:"although the image was rolled back there"`
	Chosen
}

// Chosen names the image of a promotion, one way. Nothing: what stands in the environment that it comes from.
type Chosen struct {
	From    string `json:"from,omitempty"    description:"the environment that it comes from; left out: the one before"`
	Version string `json:"version,omitempty"`
	Build   int64  `json:"build,omitempty"   description:"the pipeline's own number"`
	Image   string `json:"image,omitempty"   description:"a digest"`
}

// NewPlan asks what a promotion would do.
type NewPlan struct {
	Component string `json:"component"`
	To        string `json:"to"        description:"the environment"`
	Referrers string `json:"referrers,omitempty" description:"as in NewPromotion"`
	Emergency bool   `json:"emergency,omitempty"`
	Again     bool   `json:"again,omitempty"`
	Chosen
}

// Plan says what a promotion does.
type Plan struct {
	Component   string      `json:"component"`
	Environment string      `json:"environment"`
	From        string      `json:"from,omitempty" description:"the environment that it comes from"`
	Emergency   bool        `json:"emergency"      description:"freezes do not hold for it, nor the gates that an emergency waives"`
	Skips       bool        `json:"skips"          description:"it comes from further back than the step before"`
	RollBack    bool        `json:"rollBack"`
	Again       bool        `json:"again"          description:"the image was rolled back there, and is meant all the same"`
	Binding     string      `json:"binding"        description:"what an approval of it is bound to"`
	Source      string      `json:"source"`
	Digest      string      `json:"digest"`
	Version     string      `json:"version,omitempty"`
	Charter     int64       `json:"charter"`
	Places      []PlanPlace `json:"places"`
	Gates       []Gate      `json:"gates" description:"and freezes, as they were judged last"`
	Expires     *time.Time  `json:"expires,omitempty" description:"until when it waits for them"`
}

// Gate is what one gate says of a promotion.
type Gate struct {
	Gate    string     `json:"gate"`
	Asks    string     `json:"asks" description:"the condition in words"`
	Verdict string     `json:"verdict" enum:"holds,does not hold,cannot tell"`
	Seen    string     `json:"seen"`
	Wants   string     `json:"wants,omitempty" description:"what would satisfy it"`
	Comes   string     `json:"comes,omitempty" enum:"time,evidence,person,other" description:"how it can yet be met; left out: it cannot"`
	Waived  bool       `json:"waived" description:"it does not hold, and does not count in an emergency"`
	At      *time.Time `json:"at,omitempty" description:"by time: when"`
}

// PlanPlace is one destination of a plan.
type PlanPlace struct {
	Repository   string      `json:"repository"`
	Checked      time.Time   `json:"checked"      description:"when it was last seen to take a push"`
	Move         int         `json:"move"         description:"pieces"`
	MoveBytes    int64       `json:"moveBytes"`
	Present      int         `json:"present"      description:"pieces"`
	PresentBytes int64       `json:"presentBytes"`
	Tags         []PlanTag   `json:"tags"`
	Stays        []PlanStays `json:"stays" description:"moving tags whose rule does not let them move to the image"`
}

// PlanStays is a moving tag that stays where it is.
type PlanStays struct {
	Tag  string `json:"tag"`
	From string `json:"from,omitempty"`
	Why  string `json:"why"`
}

// PlanTag is a tag to be pointed, in order.
type PlanTag struct {
	Tag  string `json:"tag"`
	Kind string `json:"kind,omitempty" enum:"fixed,moving,standing"`
	From string `json:"from,omitempty"`
	To   string `json:"to"`
}

// Promotion is a promotion.
type Promotion struct {
	Work
	Component   string     `json:"component"`
	Environment string     `json:"environment"`
	Digest      string     `json:"digest"`
	Version     string     `json:"version,omitempty"`
	Because     string     `json:"because"`
	Plan        Plan       `json:"plan"`
	RollBack    bool       `json:"rollBack"`
	Stands      []TagStand `json:"stands"            description:"what every tag was seen to mean when its switch was over, done or not"`
	Unreviewed  bool       `json:"unreviewed"        description:"it went another way than usual, and nobody has reviewed that yet"`
	Review      *Review    `json:"review,omitempty"`
}

// TagStand is what a tag was seen to mean in a place when a switch was over.
type TagStand struct {
	Repository string     `json:"repository"`
	Tag        string     `json:"tag"`
	Kind       string     `json:"kind,omitempty"`
	Before     string     `json:"before,omitempty" description:"what it meant before the switch; left out: nothing"`
	Wanted     string     `json:"wanted"`
	Means      string     `json:"means,omitempty"  description:"left out: nothing"`
	Seen       *time.Time `json:"seen,omitempty"   description:"left out: the place could not be asked"`
	Why        string     `json:"why,omitempty"    description:"it could not be asked, or not go back"`
	Platforms  []Resolved `json:"platforms"        description:"the images that their clients are given by the standing tag"`
}

// Resolved is the image that a client of a platform is given.
type Resolved struct {
	Platform string `json:"platform"`
	Digest   string `json:"digest"`
}

// Review is what someone said who looked at a promotion afterwards.
type Review struct {
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Remark string    `json:"remark"`
}

// NewRollBack asks for an environment to be rolled back.
type NewRollBack struct {
	Component string `json:"component"`
	In        string `json:"in"           description:"the environment"`
	To        string `json:"to,omitempty" description:"a version, a digest or a time of what stood there; left out: what stood before"`
	Because   string `json:"because"`
}

// NewRollBackPlan asks what a roll back would do.
type NewRollBackPlan struct {
	Component string `json:"component"`
	In        string `json:"in"           description:"the environment"`
	To        string `json:"to,omitempty" description:"as in NewRollBack"`
}

// Promotions is a page of promotions.
type Promotions struct {
	Items []Promotion `json:"items"`
	Next  string      `json:"next,omitempty"`
}

// TrailEntry is one thing that happened. Seq is not there until the entry has its number, a moment after it was written.
type TrailEntry struct {
	ID      string            `json:"id"`
	Seq     *int64            `json:"seq,omitempty"`
	At      time.Time         `json:"at"`
	Act     string            `json:"act"`
	By      string            `json:"by"`
	Because string            `json:"because,omitempty"`
	Person  string            `json:"person,omitempty" description:"whom it was done to"`
	Facts   map[string]string `json:"facts"`
}

// Trail is a page of entries, newest first.
type Trail struct {
	Items []TrailEntry `json:"items"`
	Next  string       `json:"next,omitempty"`
}

// Meaning is what a tag meant for a time.
type Meaning struct {
	Tag       string     `json:"tag,omitempty"`
	Digest    string     `json:"digest"`
	Version   string     `json:"version,omitempty"`
	From      time.Time  `json:"from"`
	Until     *time.Time `json:"until,omitempty"`
	By        string     `json:"by"`
	Because   string     `json:"because"`
	Promotion *int64     `json:"promotion,omitempty"`
	RollBack  bool       `json:"rollBack" description:"the promotion is one"`
	Back      bool       `json:"back"     description:"by a switch that went back"`
}

// Standing is what runs where.
type Standing struct {
	At           time.Time             `json:"at"`
	Organisation string                `json:"organisation"`
	Charter      int64                 `json:"charter"`
	TrailSize    int64                 `json:"trailSize"`
	Environments []StandingEnvironment `json:"environments"`
	Rows         []StandingRow         `json:"rows"`
}

// StandingEnvironment heads one column.
type StandingEnvironment struct {
	Name   string   `json:"name"`
	Tag    string   `json:"tag"`
	Places []string `json:"places"`
}

// StandingRow is one component.
type StandingRow struct {
	Component string          `json:"component"`
	Platforms []string        `json:"platforms"`
	Cells     []StandingCell  `json:"cells"`
	Gaps      []StandingGap   `json:"gaps" description:"between each environment and the next on the component's route"`
	Open      []OpenPromotion `json:"open"`
}

// StandingCell is one component in one place.
type StandingCell struct {
	Environment string     `json:"environment"`
	Registry    string     `json:"registry"`
	Repository  string     `json:"repository"`
	Tag         string     `json:"tag"`
	Digest      string     `json:"digest,omitempty"    description:"not there where nothing was seen"`
	Version     string     `json:"version,omitempty"`
	Decided     string     `json:"decided,omitempty"`
	Drift       bool       `json:"drift"`
	Seen        *time.Time `json:"seen,omitempty"`
	Since       *time.Time `json:"since,omitempty"`
	By          string     `json:"by,omitempty"`
	Promotion   *int64     `json:"promotion,omitempty"`
	RollBack    bool       `json:"rollBack"   description:"the promotion is one"`
	Unreviewed  bool       `json:"unreviewed" description:"the promotion went another way than usual, and nobody has reviewed that yet"`
	Build       int64      `json:"build,omitempty" description:"the pipeline's number of the run that made it"`
}

// StandingGap is what lies between an environment and the next.
type StandingGap struct {
	From          string     `json:"from"`
	To            string     `json:"to"`
	Same          bool       `json:"same"                 description:"every place there means what stands here"`
	Builds        int        `json:"builds"               description:"that made an image, from what stands there up to what stands here; negative: that there is newer"`
	BehindSeconds int64      `json:"behindSeconds"        description:"between the reports of the two builds; negative likewise"`
	Since         *time.Time `json:"since,omitempty"      description:"since when it stands here"`
	RolledBack    *int64     `json:"rolledBack,omitempty" description:"the roll back by which what stands here was taken from there"`
}

// ComponentLife is how a component's images get along its route.
type ComponentLife struct {
	Component string      `json:"component"`
	Platforms []string    `json:"platforms" description:"that every release must have"`
	Route     []string    `json:"route"`
	Row       StandingRow `json:"row"       description:"what stands where"`
	Images    []ImageLife `json:"images"    description:"the newest first"`
	Leads     []Lead      `json:"leads"     description:"one for each environment of the route"`
}

// ImageLife is one image's way.
type ImageLife struct {
	Digest  string     `json:"digest"`
	Version string     `json:"version,omitempty"`
	Build   int64      `json:"build,omitempty"`
	Built   *time.Time `json:"built,omitempty" description:"when its pipeline began to report it"`
	Steps   []LifeStep `json:"steps"           description:"one for each environment of the route"`
}

// LifeStep is how an image came to stand in an environment for the first time, and how that ended.
type LifeStep struct {
	Environment string     `json:"environment"`
	Promotion   int64      `json:"promotion,omitempty"`
	Asked       *time.Time `json:"asked,omitempty"`
	Approved    *time.Time `json:"approved,omitempty"`
	Since       *time.Time `json:"since,omitempty"      description:"left out: it never stood there"`
	Until       *time.Time `json:"until,omitempty"      description:"left out: it stands there still"`
	RolledBack  int64      `json:"rolledBack,omitempty" description:"the roll back that ended it"`
	LeadSeconds float64    `json:"leadSeconds"          description:"from the report of its build; 0: not known"`
}

// Lead is how long it takes to an environment: medians, in seconds.
type Lead struct {
	Environment   string  `json:"environment"`
	Images        int     `json:"images"`
	BuiltSeconds  float64 `json:"builtSeconds"  description:"from the build's report until it stands there"`
	AgreedSeconds float64 `json:"agreedSeconds" description:"from asking until the last has agreed; 0: nobody had to"`
	MovedSeconds  float64 `json:"movedSeconds"  description:"from there until it was verified in every place"`
}

// OpenPromotion is a promotion under way.
type OpenPromotion struct {
	Number      int64      `json:"number"`
	RollBack    bool       `json:"rollBack"`
	Environment string     `json:"environment"`
	State       string     `json:"state"`
	Version     string     `json:"version,omitempty"`
	By          string     `json:"by"`
	Asked       time.Time  `json:"asked"`
	Progress    []Progress `json:"progress"`
}

// History is what a component's tags meant over a time.
type History struct {
	Component string    `json:"component"`
	Since     time.Time `json:"since"`
	Until     time.Time `json:"until"`
	Lanes     []Lane    `json:"lanes"`
}

// Lane is one tag in one place, oldest stretch first.
type Lane struct {
	Environment string    `json:"environment"`
	Registry    string    `json:"registry"`
	Repository  string    `json:"repository"`
	Tag         string    `json:"tag"`
	Fixed       bool      `json:"fixed"`
	Stretches   []Meaning `json:"stretches"`
}

// Event is something that changed. It arrives as the data of a server-sent event whose id resumes the stream.
type Event struct {
	Topic string    `json:"topic" enum:"tag,promotion,copy,take-in,build,join,evidence,charter,registry,people"`
	At    time.Time `json:"at"`
	// What changed, by topic: the number and state of a work, the tag and component of a tag change.
	About map[string]any `json:"about"`
}

// Health says that the service is there.
type Health struct {
	Status string `json:"status"`
}
