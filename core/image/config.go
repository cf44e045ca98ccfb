package image

import (
	"encoding/json"
	"time"

	"dovrak/core/problem"

	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// MaxConfig is the largest config that is read, in bytes.
const MaxConfig = 8 << 20

// Config is what an image's config says of it, as far as Dovrak asks.
type Config struct {
	Platform Platform
	Created  *time.Time
	Labels   map[string]string
}

// ReadConfig reads an image config (OCI image specification, section "Image Configuration"). Schema-2 configs have the same shape.
func ReadConfig(raw []byte) (Config, error) {
	var c ocispec.Image
	if err := json.Unmarshal(raw, &c); err != nil {
		return Config{}, &problem.Problem{Kind: problem.Altered, Title: "This image config cannot be read", Seen: err.Error(),
			Remedy: "have whoever built the image push it again"}
	}
	return Config{
		Platform: Platform{OS: c.OS, Architecture: c.Architecture, Variant: c.Variant},
		Created:  c.Created,
		Labels:   c.Config.Labels,
	}, nil
}

// Platform says for which machines an image is: os/architecture, and a variant for some.
type Platform struct{ OS, Architecture, Variant string }

// PlatformOf gives the platform of a descriptor in an index. The zero Platform means that it names none.
func PlatformOf(d ocispec.Descriptor) Platform {
	if d.Platform == nil {
		return Platform{}
	}
	return Platform{OS: d.Platform.OS, Architecture: d.Platform.Architecture, Variant: d.Platform.Variant}
}

// String is the platform as people write it, e.g. linux/arm/v7.
func (p Platform) String() string {
	if p == (Platform{}) {
		return ""
	}
	s := p.OS + "/" + p.Architecture
	if p.Variant != "" {
		s += "/" + p.Variant
	}
	return s
}
