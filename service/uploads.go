package service

import (
	"context"
	"encoding/json"
	"time"

	"dovrak/registry"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/opencontainers/go-digest"
)

// hold is a work's right to send one blob to one repository: no other work sends the same there, in whatever process.
type hold struct {
	s      *Service
	lease  store.Lease
	is     store.Upload
	kept   transfer.Session
	waited bool
}

// holdBlob waits until nobody else sends the blob there. Who is done tells; that a process died is looked for.
func (s *Service) holdBlob(ctx context.Context, lease store.Lease, to spot, d digest.Digest) (transfer.Hold, error) {
	freed, stop := s.link.Subscribe(store.BlobNotice(to.at(), d))
	defer stop()
	h := &hold{s: s, lease: lease}
	for {
		u, ok, err := s.db.HoldBlob(ctx, to.at(), d, lease)
		if err != nil {
			return nil, err
		}
		if ok {
			h.is, h.kept.Location = u, u.Location
			return h, json.Unmarshal(u.Marks, &h.kept.Marks)
		}
		h.waited = true
		if err := waitOr(ctx, workLease/3, freed); err != nil {
			return nil, err
		}
	}
}

func (h *hold) Waited() bool           { return h.waited }
func (h *hold) Kept() transfer.Session { return h.kept }

// Keep writes down how far the blob is; store.ErrLost says that another has it.
func (h *hold) Keep(ctx context.Context, is transfer.Session) error {
	if is.Marks == nil {
		is.Marks = []registry.Mark{}
	}
	marks, err := json.Marshal(is.Marks)
	if err != nil {
		return err
	}
	h.is.Location, h.is.Marks = is.Location, marks
	return h.s.db.KeepUpload(ctx, h.is, h.lease)
}

// Release gives the blob back.
func (h *hold) Release(ctx context.Context, leave bool) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	return h.s.db.Tx(ctx, func(tx store.Tx) error { return tx.LeaveBlob(ctx, h.is, h.lease, leave) })
}

// endUploads cancels uploads that were broken and that nobody has gone on with for a day.
func (s *Service) endUploads(ctx context.Context) error {
	old, err := s.db.ForgottenUploads(ctx, batch)
	if err != nil {
		return err
	}
	for _, u := range old {
		at, err := s.spotByID(ctx, u.RegistryID, u.Repository)
		if err == nil && u.Location != "" && !at.CancelUpload(ctx, u.Location) {
			s.log.WarnContext(ctx, "a forgotten upload could not be cancelled; it is tried again", "repository", at.ref.In())
			continue
		}
		if err := s.db.ForgetUpload(ctx, u); err != nil {
			return err
		}
	}
	return nil
}
