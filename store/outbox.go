package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"
)

// Event is something that changed, for those who watch. Its ID resumes a stream behind it.
type Event struct {
	ID      EventID
	At      time.Time
	Topic   string
	Payload json.RawMessage
}

// EventID orders events by transaction, then by number. Its text is "XACT-NUMBER".
type EventID struct{ Xact, Number int64 }

func (id EventID) String() string { return fmt.Sprintf("%d-%d", id.Xact, id.Number) }

// ParseEventID reads an id back.
func ParseEventID(s string) (EventID, error) {
	a, b, _ := strings.Cut(s, "-")
	x, err := strconv.ParseInt(a, 10, 64)
	if err != nil {
		return EventID{}, fmt.Errorf("store: not the id of an event: %q", s)
	}
	n, err := strconv.ParseInt(b, 10, 64)
	if err != nil {
		return EventID{}, fmt.Errorf("store: not the id of an event: %q", s)
	}
	return EventID{x, n}, nil
}

// The topics there are.
const (
	TopicTag       = "tag"       // a tag was pointed, or seen to have changed
	TopicPromotion = "promotion" // a promotion's state or progress
	TopicCopy      = "copy"      // a copy's state or progress
	TopicTakeIn    = "take-in"   // a taking-in's state or progress
	TopicBuild     = "build"     // a build's state, or a part of it
	TopicJoin      = "join"      // a join's state or progress
	TopicEvidence  = "evidence"  // something was vouched for
	TopicCharter   = "charter"
	TopicRegistry  = "registry"
	TopicPeople    = "people" // who may what
)

// Tell writes an event, to be seen when the transaction commits, and wakes those who watch.
func (t Tx) Tell(ctx context.Context, topic string, payload any) error {
	raw, err := json.Marshal(payload)
	if err != nil {
		return err
	}
	if err := t.g.WithContext(ctx).Exec("INSERT INTO outbox (topic, payload) VALUES (?, ?)", topic, string(raw)).Error; err != nil {
		return err
	}
	return t.notify(ctx, NoticeEvent)
}

// EventsAfter lists events behind one, oldest first. Those of transactions that could still be joined by an earlier
// one are left for the next call, so that nobody who goes on from the last id misses any; waits tells that there are such.
func (q Queries) EventsAfter(ctx context.Context, after EventID, limit int) (events []Event, waits bool, err error) {
	var rows []struct {
		Xact, ID int64
		At       time.Time
		Topic    string
		Payload  json.RawMessage
		Waits    bool
	}
	err = q.g.WithContext(ctx).Raw(`SELECT xact::text::bigint AS xact, id, at, topic, payload,
			xact >= pg_snapshot_xmin(pg_current_snapshot()) AS waits FROM outbox
		WHERE (xact, id) > (?::text::xid8, ?) ORDER BY outbox.xact, outbox.id LIMIT ?`,
		strconv.FormatInt(after.Xact, 10), after.Number, limit).Scan(&rows).Error
	for _, r := range rows {
		if r.Waits {
			return events, true, err
		}
		events = append(events, Event{EventID{r.Xact, r.ID}, r.At.UTC(), r.Topic, r.Payload})
	}
	return events, false, err
}

// LastEvent is the id from which a new stream begins.
func (q Queries) LastEvent(ctx context.Context) (EventID, error) {
	var x int64
	err := q.g.WithContext(ctx).Raw("SELECT pg_snapshot_xmin(pg_current_snapshot())::text::bigint").Scan(&x).Error
	return EventID{x, 0}, err
}

// Prune drops what only had to be kept for a while: events, answers to keys, leases and sessions long gone.
func (q Queries) Prune(ctx context.Context) error {
	for _, sql := range []string{
		"DELETE FROM outbox WHERE at < now() - interval '1 day'",
		"DELETE FROM idempotency_keys WHERE created_at < now() - interval '7 days'",
		"DELETE FROM registry_checks c WHERE at < now() - interval '90 days' AND EXISTS (SELECT 1 FROM registry_checks n" +
			" WHERE n.registry_id = c.registry_id AND n.repository = c.repository AND n.at > c.at)",
		"DELETE FROM spent_tokens WHERE expires_at < now() - interval '1 day'",
		"DELETE FROM referrers WHERE seen_at < now() - interval '1 day'",
		"DELETE FROM sightings WHERE digest IS NULL AND was_digest IS NULL AND seen_at < now() - interval '1 day'", // never meant anything
		"DELETE FROM tokens WHERE session AND expires_at < now() - interval '7 days'",
		"DELETE FROM processes d WHERE started_at < now() - interval '1 day' AND NOT EXISTS (SELECT 1 FROM works WHERE owner = d.id)" +
			" AND NOT EXISTS (" + living + " AND p.id = d.id)",
	} {
		if err := q.g.WithContext(ctx).Exec(sql).Error; err != nil {
			return err
		}
	}
	return nil
}

// Answered is the work that an Idempotency-Key led to.
type Answered struct {
	RequestHash []byte
	Location    string
	WorkID      uuid.UUID
}

// KeepAnswer keeps what a key led to. It fails as a duplicate if the key was used meanwhile.
func (t Tx) KeepAnswer(ctx context.Context, actor uuid.UUID, key string, a Answered) error {
	return t.g.WithContext(ctx).
		Exec("INSERT INTO idempotency_keys (actor_id, key, request_hash, location, work_id) VALUES (?, ?, ?, ?, ?)",
			actor, key, a.RequestHash, a.Location, a.WorkID).
		Error
}

// Answer finds what a key led to.
func (q Queries) Answer(ctx context.Context, actor uuid.UUID, key string) (Answered, bool, error) {
	return first[Answered](q.g.WithContext(ctx).Table("idempotency_keys").Where("actor_id = ? AND key = ?", actor, key))
}

// IsDuplicate reports a unique key that was there already.
func IsDuplicate(err error) bool {
	pg, ok := errors.AsType[*pgconn.PgError](err)
	return ok && pg.Code == "23505" || errors.Is(err, gorm.ErrDuplicatedKey)
}
