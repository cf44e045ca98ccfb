package plan

import (
	"slices"
	"strings"
	"testing"

	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/opencontainers/go-digest"
)

// TestSubset: one platform is its own image, several are a new index, all are the index itself; what lies in the index about a
// member stays with it.
func TestSubset(t *testing.T) {
	amd, arm, v7, about := digest.FromString("amd"), digest.FromString("arm"), digest.FromString("v7"), digest.FromString("about arm")
	member := func(d digest.Digest, platform string) string {
		return `{"mediaType":"` + image.MediaManifest + `","digest":"` + d.String() + `","size":7,` + platform + `}`
	}
	index := func(members ...string) image.Manifest {
		raw := `{"schemaVersion":2,"mediaType":"` + image.MediaIndex + `","manifests":[` + strings.Join(members, ",") +
			`],"annotations":{"org.opencontainers.image.version":"4.1.7"}}`
		m, err := image.Read(image.MediaIndex, []byte(raw))
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	whole := index(
		member(amd, `"platform":{"os":"linux","architecture":"amd64"}`),
		member(arm, `"platform":{"os":"linux","architecture":"arm64"}`),
		member(v7, `"platform":{"os":"linux","architecture":"arm","variant":"v7"}`),
		member(about, `"platform":{"os":"unknown","architecture":"unknown"},"annotations":{"x.reference.digest":"`+arm.String()+`"}`),
	)
	for _, tt := range []struct {
		platforms string
		want      []digest.Digest
		made      bool
		problem   string
	}{
		{"linux/amd64", []digest.Digest{amd}, false, ""},
		{"linux/arm64", []digest.Digest{arm, about}, true, ""},
		{"linux/arm/v7 linux/arm64/v8", []digest.Digest{arm, v7, about}, true, ""},
		{"linux/amd64 linux/arm64 linux/arm/v7", []digest.Digest{amd, arm, v7, about}, false, ""},
		{"linux/riscv64", nil, false, "linux/amd64, linux/arm/v7, linux/arm64"},
	} {
		var platforms []image.Platform
		for p := range strings.FieldsSeq(tt.platforms) {
			own, err := image.ParsePlatform(p)
			if err != nil {
				t.Fatal(err)
			}
			platforms = append(platforms, own)
		}
		root, made, err := Subset(whole, platforms)
		if tt.problem != "" {
			if !problem.Is(err, problem.NotFound) || !strings.Contains(problem.From(err).Seen, tt.problem) {
				t.Errorf("%s: %v", tt.platforms, err)
			}
			continue
		}
		got := []digest.Digest{root.Digest}
		if root.Index {
			got = nil
			for _, m := range root.Members {
				got = append(got, m.Digest)
			}
		}
		if err != nil || made != tt.made || !slices.Equal(got, tt.want) {
			t.Errorf("%s: %v, made %v, %v", tt.platforms, got, made, err)
		}
		if made && (root.Annotations["org.opencontainers.image.version"] != "4.1.7" || root.Digest == whole.Digest) {
			t.Errorf("%s: a new index %s with %v", tt.platforms, root.Digest, root.Annotations)
		}
	}
	if _, _, err := Subset(tree(t, 1, 1)[0], []image.Platform{{OS: "linux", Architecture: "a0"}}); !problem.Is(err, problem.NotFound) {
		t.Errorf("of an image that is no index: %v", err)
	}
}
