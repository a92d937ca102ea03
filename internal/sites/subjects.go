// Package sites lets a headquarters show many services ("sites") as one.
//
// They communicate through a message engine, NATS with JetStream. A site publishes its events, and the state of itself
// and of each host, to durable streams, and it answers requests. It publishes from its own records and does not depend
// on the engine. A headquarters reads the streams and requests everything else from the site.
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

// The durable streams.
const (
	eventStream = "LANTERN_EVENTS" // every event of every site, in order
	stateStream = "LANTERN_STATE"  // the newest state of each site and host
)

// Subjects. A site may publish under its own name alone.
func eventsOf(site string) string { return "lantern.event." + site }
func stateOf(site, kind, name string) string {
	return "lantern.state." + site + "." + kind + "." + token(name)
}
func aliveOf(site string) string   { return "lantern.alive." + site }
func askOf(site string) string     { return "lantern.ask." + site }
func lastOf(site string) string    { return "lantern.last." + site }
func answersOf(site string) string { return "lantern.answer." + site }
func inboxOf(site string) string   { return "lantern.inbox." + site }

// Kinds of state.
const (
	ofSite = "site"
	ofHost = "host"
)

var plain = regexp.MustCompile(`^[A-Za-z0-9_-]+$`)

// token encodes a name as one part of a subject.
func token(name string) string {
	if plain.MatchString(name) && !strings.HasPrefix(name, "x--") {
		return name
	}
	return "x--" + hex.EncodeToString([]byte(name))
}

var siteName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,38}[a-z0-9])?$`)

// CheckName returns an error if the name is not valid for a site.
func CheckName(name string) error {
	if !siteName.MatchString(name) {
		return fmt.Errorf("%q is not a valid site name: use up to 40 lower-case letters, digits and hyphens, such as north",
			name)
	}
	return nil
}

// event is an event of a site as it is published. After a site was restored from a backup, it gives ids a second time;
// Sum distinguishes such events.
type event struct {
	ID      int64     `json:"id"`
	Kind    string    `json:"kind"`
	At      time.Time `json:"at"`
	Subject string    `json:"subject"`
	Says    string    `json:"says"`
	Sum     string    `json:"sum"`
}

// restored is the Sum of the event that a site publishes after it was restored from a backup.
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

// last describes what the streams contain of a site.
type last struct {
	// Made identifies the streams. If they were created again, the site sends everything again.
	Made int64 `json:"made"`
	// Seq is the sequence number of the newest event in the stream, 0 for none.
	Seq   uint64 `json:"seq"`
	Event event  `json:"event"`
	// Common is the id of the newest event of the request that is also in the stream.
	Common int64 `json:"common"`
}

// seen is an event that a site asks about.
type seen struct {
	ID  int64  `json:"id"`
	Sum string `json:"sum"`
}

// state is the state of a site or host at a time, by the clock of the site.
type state struct {
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

// errUnreachable is returned for a request to a site that is not connected.
var errUnreachable = errors.New("the site cannot be reached")
