package image

import (
	"encoding/json"
	"maps"
	"slices"
	"time"

	"dovrak/core/problem"

	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// MaxConfig is the largest config that is read, in bytes.
const MaxConfig = 8 << 20

// Config is what an image's config says of it, as far as Dovrak asks.
type Config struct {
	Platform   Platform
	OSVersion  string
	Created    *time.Time
	Author     string
	Labels     map[string]string
	Entrypoint []string
	Command    []string
	Env        []string
	User       string
	WorkingDir string
	Ports      []string
	History    []HistoryStep
}

// HistoryStep is one step of how the image was made. Empty steps made no layer.
type HistoryStep struct {
	Created *time.Time
	By      string
	Comment string
	Empty   bool
}

// ReadConfig reads an image config (OCI image specification, section "Image Configuration"). Schema-2 configs have the same shape.
func ReadConfig(raw []byte) (Config, error) {
	var c ocispec.Image
	if err := json.Unmarshal(raw, &c); err != nil {
		return Config{}, &problem.Problem{Kind: problem.Altered, Title: "This image config cannot be read", Seen: err.Error(),
			Remedy: "have whoever built the image push it again"}
	}
	out := Config{
		Platform:   Platform{OS: c.OS, Architecture: c.Architecture, Variant: c.Variant},
		OSVersion:  c.OSVersion,
		Created:    c.Created,
		Author:     c.Author,
		Labels:     c.Config.Labels,
		Entrypoint: c.Config.Entrypoint,
		Command:    c.Config.Cmd,
		Env:        c.Config.Env,
		User:       c.Config.User,
		WorkingDir: c.Config.WorkingDir,
		Ports:      slices.Sorted(maps.Keys(c.Config.ExposedPorts)),
	}
	for _, h := range c.History {
		out.History = append(out.History, HistoryStep{h.Created, h.CreatedBy, h.Comment, h.EmptyLayer})
	}
	return out, nil
}
