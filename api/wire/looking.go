package wire

import "time"

// Image is what a reference means.
type Image struct {
	Reference        string            `json:"reference"                  description:"with the digest: exact"`
	Digest           string            `json:"digest"`
	MediaType        string            `json:"mediaType"`
	Kind             string            `json:"kind"                       description:"index, image, attestation, signature, bill of materials, artifact"`
	Seen             time.Time         `json:"seen"                       description:"when the registry said so"`
	Created          *time.Time        `json:"created,omitempty"`
	Version          string            `json:"version,omitempty"`
	Revision         string            `json:"revision,omitempty"         description:"the commit it was built from"`
	Size             int64             `json:"size"                       description:"of everything below it, compressed, each blob once"`
	Annotations      map[string]string `json:"annotations,omitempty"`
	Tags             []string          `json:"tags"                       description:"of the same repository, last seen to mean the same"`
	Platforms        []PlatformImage   `json:"platforms"`
	Beside           []Beside          `json:"beside"                     description:"what lies in the index and is no image to run"`
	Referrers        []Beside          `json:"referrers"                  description:"what is attached to it"`
	ReferrersSeen    time.Time         `json:"referrersSeen"`
	ReferrersProblem string            `json:"referrersProblem,omitempty" description:"why they could not be listed"`
	Client           *Client           `json:"client,omitempty"           description:"what a client of the platform asked for gets"`
	Registry         RegistryMark      `json:"registry"`
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
	Fails     string     `json:"fails,omitempty"     description:"the first step of its newest check that fails"`
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
	Config        string            `json:"config"                  description:"its digest"`
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
	Empty   bool       `json:"empty"             description:"it made no layer"`
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
	Of          string            `json:"of,omitempty"          description:"the digest that it is about"`
	Annotations map[string]string `json:"annotations,omitempty"`
}
