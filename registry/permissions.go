package registry

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"

	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// denied tells a registry's refusal from other errors.
func denied(err error) bool {
	s := Status(err)
	return s == http.StatusUnauthorized || s == http.StatusForbidden
}

// pull looks at a manifest: of one of the repository's tags, or else of a digest that nothing has, where "not there" is
// as good an answer.
func (k *check) pull(ctx context.Context) finding {
	name := nothingHas().String()
	if tag := k.oneTag(ctx); tag != "" {
		name = tag
	}
	_, err := k.repository.Head(ctx, name)
	switch {
	case err == nil:
		return holds("HEAD of the manifest %s is answered", image.Printable(name))
	case problem.Is(err, problem.NotFound):
		return holds("HEAD of a manifest is answered; nothing is there under that name yet")
	case denied(err):
		return finding{Fails, "the account may not pull from " + k.repository.String() + ": " + problem.From(err).Seen,
			"give the account the permission to pull there; some registries answer so too when the path is wrong or nothing is there yet"}
	}
	return failed(err)
}

// public looks at the same without a credential.
func (k *check) public(ctx context.Context) finding {
	cfg := k.c.cfg
	cfg.Credentials = nil
	anyone, err := New(cfg)
	if err != nil {
		return failed(err)
	}
	defer anyone.Close()
	_, err = anyone.Repository(k.o.Repository).Head(ctx, nothingHas().String())
	open := err == nil || problem.Is(err, problem.NotFound)
	switch {
	case open:
		k.Public = &open
		return holds("anyone may pull from it, without a credential")
	case denied(err):
		k.Public = &open
		return finding{Absent, "nobody may pull from it without a credential", ""}
	}
	return finding{CannotTell, problem.From(err).Seen, ""}
}

// oneTag asks for one tag of the repository, and remembers how that was answered. Nothing is no error.
func (k *check) oneTag(ctx context.Context) string {
	var tags []string
	enough := errors.New("one page is enough")
	err := k.repository.tags(ctx, 1, func(page []string) error {
		tags = page
		return enough
	})
	k.tags, k.listed = len(tags), err == nil || errors.Is(err, enough)
	if k.listed || problem.Is(err, problem.NotFound) {
		k.There = &k.listed
	}
	if len(tags) == 0 || image.CheckTag(tags[0]) != nil {
		return ""
	}
	return tags[0]
}

func (k *check) paging(context.Context) finding {
	switch {
	case !k.listed:
		return finding{CannotTell, "the repository lists no tags yet, or they may not be listed", ""}
	case k.tags > 1:
		return finding{Absent, fmt.Sprintf("asked for one tag, it gives all %d at once", k.tags), ""}
	case k.tags == 0:
		return finding{CannotTell, "there is no tag yet", ""}
	}
	return holds("asked for one tag, it gives one")
}

func (k *check) referrers(ctx context.Context) finding {
	_, offered, err := k.repository.listReferrers(ctx, nothingHas())
	switch {
	case err != nil && denied(err):
		return finding{CannotTell, "not permitted: " + problem.From(err).Seen, "give the account the permission to pull"}
	case err != nil:
		return failed(err)
	case offered:
		return holds("what is attached to an image is listed by the registry")
	}
	return finding{Absent, "no list of referrers; attachments are found by the fallback tag", ""}
}

// push opens an upload session and cancels it. A right to put a manifest is not proved thereby.
func (k *check) push(ctx context.Context) finding {
	if k.o.NoPush != "" {
		return finding{NotTried, k.o.NoPush, "dovrak registry check NAME --repository R --for push, in a repository that is declared"}
	}
	up, err := k.repository.OpenUpload(ctx, ocispec.Descriptor{Digest: nothingHas()})
	switch {
	case denied(err):
		return finding{Fails, "the account may not push to " + k.repository.String() + ": " + problem.From(err).Seen,
			"give the account the permission to push there; the sign-in itself is right"}
	case problem.Is(err, problem.NotFound):
		return finding{Fails, "the registry knows no repository " + k.repository.String() + " to push to",
			"make the repository first, or see whether the path is right: this registry makes none by itself"}
	case err != nil:
		return failed(err)
	}
	seen := "an upload session was opened and cancelled"
	if status := up.Cancel(ctx); status != http.StatusNoContent && status != http.StatusOK &&
		status != http.StatusAccepted {
		seen = fmt.Sprintf(
			"an upload session was opened; cancelling it was answered by %d, so an empty one may remain until the registry clears it",
			status,
		)
	}
	return holds("%s; the right to put a manifest is not proved by it", seen)
}

func (k *check) mount(ctx context.Context) finding {
	switch {
	case k.o.NoPush != "":
		return finding{NotTried, k.o.NoPush, ""}
	case k.o.MountFrom == "":
		return finding{
			NotTried,
			"no blob is known that two repositories of this registry hold, and mounting another would leave it here",
			"",
		}
	}
	done, err := k.repository.Mount(ctx, k.c.Repository(k.o.MountFrom), k.o.MountBlob)
	switch {
	case err != nil && denied(err):
		return finding{Absent, "not permitted from " + k.o.MountFrom + "; copies send the bytes", ""}
	case err != nil:
		return failed(err)
	case !done:
		return finding{Absent, "asked to mount from " + k.o.MountFrom + ", it opens an upload (cancelled); copies send the bytes", ""}
	}
	return holds("a blob that both hold was mounted from %s, which changes nothing", k.o.MountFrom)
}

// remove asks for the deletion of a digest that nothing has.
func (k *check) remove(ctx context.Context) finding {
	if k.o.NoDelete != "" {
		return finding{NotTried, k.o.NoDelete, ""}
	}
	err := k.repository.DeleteManifest(ctx, nothingHas().String())
	switch {
	case err == nil:
		return finding{CannotTell, "the deletion of a digest that nothing has was accepted, which proves nothing", ""}
	case denied(err):
		return finding{Fails, "the account may not delete in " + k.repository.String() + ": " + problem.From(err).Seen,
			"give the account the permission to delete there, if Dovrak is to take tags away or sweep"}
	case Status(err) == http.StatusMethodNotAllowed:
		return finding{
			Fails,
			"this registry deletes nothing (405)",
			"turn deletion on in the registry, if Dovrak is to take tags away or sweep",
		}
	case problem.Is(err, problem.NotFound):
		return finding{
			CannotTell,
			"the deletion of a digest that nothing has was answered by 404, and not refused; that a real one would go is not proved",
			"",
		}
	}
	return failed(err)
}

// nothingHas is a digest that no content has.
func nothingHas() digest.Digest { return digest.FromString("nothing has this digest " + rand.Text()) }
