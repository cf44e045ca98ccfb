package wire

import "time"

// Image is what a reference means.
type Image struct {
	Reference        string            `json:"reference" description:"with the digest: exact"`
	Digest           string            `json:"digest"`
	MediaType        string            `json:"mediaType"`
	Kind             string            `json:"kind" description:"index, image, attestation, artifact and so on"`
	Seen             time.Time         `json:"seen" description:"when the registry said so"`
	Created          *time.Time        `json:"created,omitempty"`
	Version          string            `json:"version,omitempty"`
	Revision         string            `json:"revision,omitempty" description:"the commit it was built from"`
	Size             int64             `json:"size" description:"of everything below it, compressed, each blob once"`
	Annotations      map[string]string `json:"annotations,omitempty"`
	Tags             []string          `json:"tags" description:"of the same repository, last seen to mean the same"`
	Platforms        []PlatformImage   `json:"platforms"`
	Beside           []Beside          `json:"beside" description:"what lies in the index and is no image to run"`
	Referrers        []Beside          `json:"referrers" description:"what is attached to it"`
	ReferrersSeen    time.Time         `json:"referrersSeen"`
	ReferrersProblem string            `json:"referrersProblem,omitempty" description:"why they could not be listed"`
	Client           *Client           `json:"client,omitempty" description:"what a client of the platform asked for gets"`
	Registry         RegistryMark      `json:"registry"`
	Evidence         []Vouch           `json:"evidence" description:"what was vouched for, newest first"`
	Attestations     []Attestation     `json:"attestations"`
	Builds           []BuildRef        `json:"builds" description:"that made it"`
}

// Client is the member of an image that a client of a platform gets.
type Client struct {
	As       string `json:"as"`
	Platform string `json:"platform"`
	Digest   string `json:"digest"`
}

// RegistryMark is what to know of a registry wherever it is named.
type RegistryMark struct {
	Name      string     `json:"name"`
	Checked   *time.Time `json:"checked,omitempty"`
	Fails     string     `json:"fails,omitempty" description:"the first step of its newest check that fails"`
	Exception *Exception `json:"exception,omitempty"`
}

// PlatformImage is the image of one platform.
type PlatformImage struct {
	Platform      string            `json:"platform"`
	OSVersion     string            `json:"osVersion,omitempty"`
	Digest        string            `json:"digest"`
	Size          int64             `json:"size"`
	Created       *time.Time        `json:"created,omitempty"`
	Author        string            `json:"author,omitempty"`
	Labels        map[string]string `json:"labels,omitempty"`
	Annotations   map[string]string `json:"annotations,omitempty"`
	Config        string            `json:"config" description:"its digest"`
	Entrypoint    []string          `json:"entrypoint,omitempty"`
	Command       []string          `json:"command,omitempty"`
	Env           []string          `json:"env,omitempty"`
	User          string            `json:"user,omitempty"`
	WorkingDir    string            `json:"workingDir,omitempty"`
	Ports         []string          `json:"ports,omitempty"`
	History       []HistoryStep     `json:"history,omitempty"`
	Layers        []Layer           `json:"layers"`
	Contradiction string            `json:"contradiction,omitempty" description:"what index and config say differently of its platform"`
}

// HistoryStep is one step of how an image was made.
type HistoryStep struct {
	Created *time.Time `json:"created,omitempty"`
	By      string     `json:"by,omitempty"`
	Comment string     `json:"comment,omitempty"`
	Empty   bool       `json:"empty" description:"it made no layer"`
}

// Layer is one layer of an image.
type Layer struct {
	Digest    string `json:"digest"`
	Size      int64  `json:"size"`
	MediaType string `json:"mediaType"`
}

// Beside is something that lies beside images and is not to be run.
type Beside struct {
	Digest      string            `json:"digest"`
	Kind        string            `json:"kind"`
	Type        string            `json:"type,omitempty"`
	Size        int64             `json:"size"`
	Of          string            `json:"of,omitempty" description:"the digest that it is about"`
	Annotations map[string]string `json:"annotations,omitempty"`
}

// Tag is a tag with what it was last seen to mean.
type Tag struct {
	Tag       string     `json:"tag"`
	Digest    string     `json:"digest"`
	Rule      string     `json:"rule" enum:"fixed,standing,moving,cache,other,unruled"`
	Kind      string     `json:"kind" description:"of the image; empty: it was not read yet"`
	Since     time.Time  `json:"since" description:"since when it means this, as far as was seen"`
	Decided   bool       `json:"decided" description:"Dovrak pointed it there"`
	Created   *time.Time `json:"created,omitempty" description:"of the image"`
	Version   string     `json:"version,omitempty"`
	Size      int64      `json:"size"`
	Platforms []string   `json:"platforms"`
	Shares    int64      `json:"shares" description:"how many other tags of the repository mean the same"`
	With      []string   `json:"with" description:"a few of them"`
	Seen      time.Time  `json:"seen"`
	Problem   string     `json:"problem,omitempty" description:"why the image cannot be read, or contradicts itself"`
}

// Tags is a page of a repository's tags, as they were last seen.
type Tags struct {
	Repository string       `json:"repository"`
	Tags       int64        `json:"tags" description:"in all"`
	Images     int64        `json:"images" description:"that they mean, in all"`
	Surveyed   *time.Time   `json:"surveyed,omitempty" description:"when all of them were last looked at; left out: never"`
	Registry   RegistryMark `json:"registry"`
	Items      []Tag        `json:"items"`
	Next       string       `json:"next,omitempty"`
}

// TagsLook is how far a look at all tags of a repository is, with those that were just seen. The last one says done, or has
// a problem.
type TagsLook struct {
	Tags    int64     `json:"tags" description:"asked so far"`
	Images  int64     `json:"images" description:"read for the first time"`
	Seen    time.Time `json:"seen"`
	Kept    bool      `json:"kept" description:"nothing was asked: the last look is not older than a minute"`
	Done    bool      `json:"done"`
	Items   []Tag     `json:"items"`
	Problem *Problem  `json:"problem,omitempty"`
}

// Across is one component's tags side by side in all its places.
type Across struct {
	Component  string         `json:"component"`
	Places     []AcrossPlace  `json:"places"`
	Rows       []AcrossRow    `json:"rows" description:"in the order of versions, the highest first"`
	Exceptions []TagException `json:"exceptions"`
}

// AcrossPlace is one of the places.
type AcrossPlace struct {
	Environment string       `json:"environment"`
	Repository  string       `json:"repository"`
	Seen        *time.Time   `json:"seen,omitempty"`
	Problem     string       `json:"problem,omitempty" description:"why its tags could not be looked at now"`
	Registry    RegistryMark `json:"registry"`
}

// AcrossRow is one tag. Cells are in the order of the places.
type AcrossRow struct {
	Tag       string       `json:"tag"`
	Verdict   string       `json:"verdict" enum:"same,differs,only here,lacking,attached"`
	Since     *time.Time   `json:"since,omitempty" description:"since when it has not been the same"`
	Platforms []string     `json:"platforms" description:"those that one place's image has and another's lacks"`
	Exception int64        `json:"exception,omitempty" description:"by which it is meant to be so"`
	Cells     []AcrossCell `json:"cells"`
}

// AcrossCell is what a tag means in one place. No digest: nothing.
type AcrossCell struct {
	Digest    string     `json:"digest,omitempty"`
	Platforms []string   `json:"platforms"`
	Attached  *int       `json:"attached,omitempty" description:"how many things, where it was asked for"`
	Since     *time.Time `json:"since,omitempty"`
}

// NewTagException says that a gap is meant.
type NewTagException struct {
	Component string `json:"component"`
	Pattern   string `json:"pattern" description:"of tags, with * and ?"`
	Place     string `json:"place,omitempty" description:"REGISTRY/REPOSITORY; left out: every place"`
	Because   string `json:"because"`
}

// TagException is a gap that is meant.
type TagException struct {
	Number  int64     `json:"number"`
	Pattern string    `json:"pattern"`
	Place   string    `json:"place,omitempty"`
	Because string    `json:"because"`
	By      string    `json:"by"`
	Made    time.Time `json:"made"`
}

// Unpoint asks for a tag to be taken away.
type Unpoint struct {
	Tag     string `json:"tag" description:"REGISTRY/REPOSITORY:TAG"`
	Because string `json:"because"`
}

// Where is everything that Dovrak knows under what was looked for.
type Where struct {
	Asked  string      `json:"asked"`
	As     []string    `json:"as" description:"what it was taken for"`
	Items  []WhereItem `json:"items"`
	Builds []BuildRef  `json:"builds"`
	More   bool        `json:"more"  description:"there is more than is shown"`
}

// WhereItem is one tag, or a digest that no tag means, in one repository.
type WhereItem struct {
	Repository  string     `json:"repository"`
	Tag         string     `json:"tag,omitempty"`
	Digest      string     `json:"digest"`
	Kind        string     `json:"kind,omitempty"`
	Version     string     `json:"version,omitempty"`
	Revision    string     `json:"revision,omitempty"`
	Size        int64      `json:"size"`
	Platforms   []string   `json:"platforms"`
	Created     *time.Time `json:"created,omitempty"`
	Component   string     `json:"component,omitempty"`
	Environment string     `json:"environment,omitempty"`
	Stands      bool       `json:"stands" description:"it is what stands in that environment"`
	Origin      string     `json:"origin,omitempty" description:"from where Dovrak first copied it there"`
	Seen        time.Time  `json:"seen"`
}

// Comparison is two images side by side; B is seen as what came after A.
type Comparison struct {
	Same      bool               `json:"same" description:"the very same digest"`
	A         Image              `json:"a"`
	B         Image              `json:"b"`
	Platforms []ComparedPlatform `json:"platforms"`
	Labels    []ComparedValue    `json:"labels" description:"of the index: its annotations"`
	Attached  []ComparedAttached `json:"attached"`
	Between   *Between           `json:"between,omitempty" description:"by the builds that made both"`
}

// ComparedPlatform is one platform of two images. A or B is left out where it has none.
type ComparedPlatform struct {
	Platform    string          `json:"platform"`
	A           string          `json:"a,omitempty"`
	B           string          `json:"b,omitempty"`
	SizeA       int64           `json:"sizeA"`
	SizeB       int64           `json:"sizeB"`
	Shared      []Layer         `json:"shared"`
	Removed     []Layer         `json:"removed"`
	Added       []Layer         `json:"added"`
	SharedBytes int64           `json:"sharedBytes"`
	AddedBytes  int64           `json:"addedBytes"  description:"what a machine that has A must pull"`
	Config      []ComparedValue `json:"config"`
	Labels      []ComparedValue `json:"labels"`
}

// ComparedValue is one value that is not the same. A or B is left out where there is none.
type ComparedValue struct {
	Name string `json:"name"`
	A    string `json:"a,omitempty"`
	B    string `json:"b,omitempty"`
}

// ComparedAttached is how many things of a kind and type are attached.
type ComparedAttached struct {
	Kind string `json:"kind"`
	Type string `json:"type,omitempty"`
	A    int    `json:"a"`
	B    int    `json:"b"`
}
