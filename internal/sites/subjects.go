// Package sites lets a headquarters show many services ("sites") as one, and a site tell it what it knows.
//
// Between them stands a message engine, NATS with JetStream. A site publishes its events and what it says of itself and
// of each host to streams that are kept, and answers requests; it never depends on any of it, and its own records are
// what it publishes from. A headquarters reads the streams, and asks the site for everything else.
package sites

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"lantern/internal/api"
)

// The streams that are kept.
const (
	eventStream = "LANTERN_EVENTS" // every event of every site, in order
	saidStream  = "LANTERN_SAID"   // the newest that a site said of itself and of each host
)

// Subjects. A site may publish under its own name alone.
func eventsOf(site string) string { return "lantern.event." + site }
func saidBy(site, kind, name string) string {
	return "lantern.said." + site + "." + kind + "." + token(name)
}
func aliveOf(site string) string   { return "lantern.alive." + site }
func askOf(site string) string     { return "lantern.ask." + site }
func lastOf(site string) string    { return "lantern.last." + site }
func answersOf(site string) string { return "lantern.answer." + site }
func inboxOf(site string) string   { return "lantern.inbox." + site }

// Kinds of what a site says.
const (
	ofSite = "site"
	ofHost = "host"
)

var plain = regexp.MustCompile(`^[A-Za-z0-9_-]+$`)

// token is a name as a part of a subject.
func token(name string) string {
	if plain.MatchString(name) && !strings.HasPrefix(name, "x--") {
		return name
	}
	return "x--" + hex.EncodeToString([]byte(name))
}

var siteName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,38}[a-z0-9])?$`)

// CheckName says whether a site can have a name.
func CheckName(name string) error {
	if !siteName.MatchString(name) {
		return fmt.Errorf("%q is no name of a site: up to 40 small letters, digits and hyphens, such as north", name)
	}
	return nil
}

// event is an event of a site as it is published. Sum tells events apart that have the same id because the site was
// restored from a backup in between.
type event struct {
	ID      int64     `json:"id"`
	Kind    string    `json:"kind"`
	At      time.Time `json:"at"`
	Subject string    `json:"subject"`
	Says    string    `json:"says"`
	Sum     string    `json:"sum"`
}

// restored is the Sum of the event by which a site says that it went on from older records.
const restored = "restored"

func eventOf(e api.Event) event {
	out := event{ID: e.Id, Kind: string(e.Kind), At: e.At.UTC(), Subject: e.Subject, Says: e.Says}
	b, err := json.Marshal(out)
	if err != nil {
		panic(err) // only plain values
	}
	sum := sha256.Sum256(b)
	out.Sum = hex.EncodeToString(sum[:12])
	return out
}

// last is what the streams have of a site.
type last struct {
	// Made tells streams apart that were made anew: then everything is told again.
	Made int64 `json:"made"`
	// Seq is the number in the stream of the newest event, 0 for none.
	Seq   uint64 `json:"seq"`
	Event event  `json:"event"`
	// Common is the newest of the events that were asked for which the stream has too.
	Common int64 `json:"common"`
}

// seen is an event that a site asks about.
type seen struct {
	ID  int64  `json:"id"`
	Sum string `json:"sum"`
}

// said is what a site says of something, at a time by its own clock.
type said struct {
	At   time.Time       `json:"at"`
	Name string          `json:"name"`
	Body json.RawMessage `json:"body"`
}

var (
	packer, _   = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1)) // fails only for wrong options
	unpacker, _ = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(256<<20), zstd.WithDecoderConcurrency(1))
)

func pack(v any) ([]byte, error) {
	b, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return packer.EncodeAll(b, nil), nil
}

func unpack(b []byte, to any) error {
	plain, err := unpacker.DecodeAll(b, nil)
	if err != nil {
		return err
	}
	return json.Unmarshal(plain, to)
}

// errUnreachable is what asking a site ends with that is not connected.
var errUnreachable = errors.New("the site cannot be reached")
