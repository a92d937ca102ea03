package daemon

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/benbjohnson/litestream"
	_ "github.com/benbjohnson/litestream/file" // kinds of places for copies of the records: a folder,
	_ "github.com/benbjohnson/litestream/s3"   // an object store;
	"github.com/benbjohnson/litestream/sftp"   // another machine
	"github.com/superfly/ltx"

	"lantern/internal/agent"
	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/link"
	"lantern/internal/service/notices"
	"lantern/internal/store"
)

// copyEach is how often changes of the records are copied, and how often a standby looks for them. About this much can
// be lost with the first machine.
const copyEach = time.Second

// replica is a place of a copy of the records.
func replica(db *litestream.DB, address string, log *slog.Logger) (*litestream.Replica, error) {
	client, err := litestream.NewReplicaClientFromURL(address)
	if err != nil {
		return nil, fmt.Errorf(
			"%q: %w; it is such as file:///mnt/copy, sftp://lantern@host/copy or s3://bucket/copy",
			address,
			err,
		)
	}
	if c, ok := client.(*sftp.ReplicaClient); ok {
		if err := overSSH(c, address); err != nil {
			return nil, err
		}
	}
	if client.Type() == "s3" {
		if err := overS3(address); err != nil {
			return nil, err
		}
	}
	client.SetLogger(log)
	if db == nil { // it is only read; the engine takes its logger from it
		db = litestream.NewDB("standby")
		db.Logger = log
	}
	r := litestream.NewReplicaWithClient(db, client)
	r.SyncInterval = copyEach
	return r, nil
}

// overS3 refuses an address of an object store that contains a secret, or uses plain HTTP.
func overS3(address string) error {
	u, err := url.Parse(address)
	if err != nil {
		return err
	}
	if u.User != nil || u.Query().Has("secretAccessKey") || u.Query().Has("secret-access-key") {
		return errors.New("the key of an object store is given as AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY; in an " +
			"address it would be seen by everybody on this machine")
	}
	if at := u.Query().Get("endpoint"); at != "" {
		if _, err := link.Transport(at, link.Options{}); err != nil {
			return fmt.Errorf("endpoint: use https://, unless it is on this machine (%q)", at)
		}
	}
	return nil
}

// overSSH reads from an address which key is used, and which host key the other machine must have. Records contain the
// hashes of secrets, so the name of a machine is not enough.
func overSSH(c *sftp.ReplicaClient, address string) error {
	u, err := url.Parse(address)
	if err != nil {
		return err
	}
	q := u.Query()
	if c.Password != "" || q.Get("key") == "" || q.Get("host-key") == "" {
		return errors.New("sftp needs two files: ?key= with our private key, and &host-key= with the other machine's " +
			"public key " +
			"(ssh-keyscan, compared by hand); a password in an address would be seen by everybody on this machine")
	}
	b, err := os.ReadFile(q.Get("host-key"))
	if err != nil {
		return fmt.Errorf("the other machine's key: %w", err)
	}
	if _, err := os.Stat(q.Get("key")); err != nil {
		return fmt.Errorf("our key: %w", err)
	}
	c.KeyPath, c.HostKey = q.Get("key"), strings.TrimSpace(string(b))
	return nil
}

// CheckReplica refuses an address to which records cannot be copied.
func CheckReplica(option, address string) error {
	if address == "" {
		return nil
	}
	if _, err := replica(nil, address, slog.New(slog.DiscardHandler)); err != nil {
		return fmt.Errorf("%s %w", option, err)
	}
	return nil
}

// replicate copies each change of the records until end is called, which copies the rest.
func (c Serve) replicate(st *store.Store, tell func(notices.Copying)) (end func(context.Context) error, err error) {
	if c.ReplicateTo == "" {
		return func(context.Context) error { return nil }, nil
	}
	// The engine takes the write-ahead log into the database itself, when it has copied it.
	if err := st.LeaveLog(); err != nil {
		return nil, err
	}
	log := quiet(c.Log.With("about", "copy of the records"))
	db := litestream.NewDB(records(c.Data))
	if db.Replica, err = replica(db, c.ReplicateTo, log); err != nil {
		return nil, err
	}
	all := litestream.NewStore([]*litestream.DB{db}, litestream.CompactionLevels{
		{
			Level: 0,
		}, {Level: 1, Interval: 30 * time.Second}, {Level: 2, Interval: 5 * time.Minute}, {Level: 3, Interval: time.Hour},
	})
	all.Logger = log
	db.SetLogger(log)
	if err := all.Open(context.Background()); err != nil {
		return nil, fmt.Errorf("copy the records to %s: %w", c.ReplicateTo, err)
	}
	looking, enough := context.WithCancel(context.Background())
	var looks sync.WaitGroup
	looks.Go(func() { c.watchCopy(looking, db, tell) })
	return func(ctx context.Context) error {
		enough()
		looks.Wait()
		return all.Close(ctx)
	}, nil
}

// lookAtCopyEach is how often the progress of the copy is checked.
const lookAtCopyEach = 10 * time.Second

// watchCopy reports the progress of the copy until ctx ends: a change in the records at one check is in the copy when
// the copy has reached the position of that check.
func (c Serve) watchCopy(ctx context.Context, db *litestream.DB, tell func(notices.Copying)) {
	state := notices.Copying{To: withoutQuery(c.ReplicateTo), Since: time.Now()}
	var asked time.Time
	var want ltx.TXID
	for {
		now := time.Now()
		limited, cancel := context.WithTimeout(ctx, lookAtCopyEach)
		is, err := db.SyncStatus(limited)
		cancel()
		state.Failed = ""
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			state.Failed = err.Error()
		default:
			if want > 0 && is.RemoteTXID >= want {
				state.Upto = asked
			}
			if want == 0 || is.RemoteTXID >= want {
				want, asked = is.LocalTXID, now
			}
			if is.InSync {
				state.Upto = now
			}
		}
		tell(state)
		if (clock.Real{}).Sleep(ctx, lookAtCopyEach) != nil {
			return
		}
	}
}

// withoutQuery removes the query from an address.
func withoutQuery(address string) string {
	before, _, _ := strings.Cut(address, "?")
	return before
}

// quiet passes on messages that an operator can act on.
func quiet(log *slog.Logger) *slog.Logger { return slog.New(onlyFrom{log.Handler(), slog.LevelWarn}) }

// onlyFrom is a handler that leaves out messages below a level.
type onlyFrom struct {
	slog.Handler
	least slog.Level
}

// Enabled implements slog.Handler.
func (h onlyFrom) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= h.least && h.Handler.Enabled(ctx, l)
}

// WithAttrs implements slog.Handler.
func (h onlyFrom) WithAttrs(a []slog.Attr) slog.Handler {
	return onlyFrom{h.Handler.WithAttrs(a), h.least}
}

// WithGroup implements slog.Handler.
func (h onlyFrom) WithGroup(name string) slog.Handler {
	return onlyFrom{h.Handler.WithGroup(name), h.least}
}

// takeOverFile in a standby's folder orders it to take over.
const takeOverFile = "take-over.json"

// TakeOver tells the standby of a folder to take over.
func TakeOver(data, by, reason string) error {
	if _, err := os.Stat(txidOf(data)); err != nil {
		return fmt.Errorf("%s is not the folder of a standby, or it has copied nothing yet", data)
	}
	b, err := json.Marshal(map[string]string{"by": by, "reason": reason})
	if err != nil {
		return err
	}
	return agent.WriteWhole(filepath.Join(data, takeOverFile), b)
}

// txidOf is the file in which the engine records the position of a standby.
func txidOf(data string) string { return records(data) + "-txid" }

// follow keeps the records of a folder equal to those of the first service, until a person orders it to take over. It
// returns who ordered it, and the reason.
func (c Serve) follow(ctx context.Context) (by, reason string, err error) {
	if _, err := os.Stat(records(c.Data)); err == nil {
		if _, err := os.Stat(txidOf(c.Data)); err != nil {
			return "", "", fmt.Errorf("%s holds a database that is not a copy: a standby needs a folder of its own", c.Data)
		}
	}
	r, err := replica(nil, c.StandbyOf, quiet(c.Log))
	if err != nil {
		return "", "", err
	}
	following, enough := context.WithCancel(ctx)
	defer enough()
	ended := make(chan error, 1)
	go func() { ended <- c.copyFrom(following, r) }()
	var told map[string]string
	for told == nil {
		select {
		case err := <-ended:
			return "", "", errors.Join(err, ctx.Err())
		case <-time.After(copyEach / 4):
			b, err := os.ReadFile(filepath.Join(c.Data, takeOverFile))
			if err == nil && json.Unmarshal(b, &told) != nil {
				return "", "", fmt.Errorf("%s cannot be read", takeOverFile)
			}
		}
	}
	// Two more reads copy what the first service wrote before its end.
	if err := (clock.Real{}).Sleep(ctx, 2*copyEach+copyEach/2); err != nil {
		return "", "", err
	}
	enough()
	if err := <-ended; err != nil {
		return "", "", err
	}
	if err := store.Sound(records(c.Data)); err != nil {
		return "", "", fmt.Errorf("the copy cannot take over: %w. Restore a backup", err)
	}
	return told["by"], told["reason"], errors.Join(
		os.Remove(filepath.Join(c.Data, takeOverFile)),
		os.Remove(txidOf(c.Data)),
	)
}

// copyFrom copies until ctx ends. While there is nothing to copy yet, it waits for it.
func (c Serve) copyFrom(ctx context.Context, r *litestream.Replica) error {
	opt := litestream.NewRestoreOptions()
	opt.OutputPath, opt.Follow, opt.FollowInterval = records(c.Data), true, copyEach
	for {
		err := r.Restore(ctx, opt)
		switch {
		case ctx.Err() != nil:
			return nil
		case err == nil:
			return errors.New("the copy ended by itself")
		case errors.Is(err, litestream.ErrTxNotAvailable),
			errors.Is(err, litestream.ErrNoSnapshots),
			errors.Is(err, os.ErrNotExist):
			c.Log.Info("nothing to copy yet", "from", c.StandbyOf)
		default:
			c.Log.Error("the copy stopped; trying again", "from", c.StandbyOf, "error", err)
		}
		if (clock.Real{}).Sleep(ctx, 5*copyEach) != nil {
			return nil
		}
	}
}

// standby follows another service, answers that it is a standby, and serves after a person ordered it to take over.
func (c Serve) standby(ctx context.Context) error {
	if err := private(c.Data); err != nil {
		return err
	}
	l, err := c.listen()
	if err != nil {
		return err
	}
	server := &http.Server{Handler: http.HandlerFunc(c.standbyAnswer), ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = server.Serve(l) }() // it ends with Close
	fmt.Fprintf(c.Out, "standby: copies the database of the service that writes to %s\n", c.StandbyOf)
	fmt.Fprintf(c.Out, "it takes over when told: lantern standby take-over --data %s --reason \"...\"\n", c.Data)
	notify(c.Log, "READY=1\nSTATUS=standby of "+c.StandbyOf)
	by, reason, err := c.follow(ctx)
	if closed := server.Close(); err == nil {
		err = closed
	}
	if err != nil || ctx.Err() != nil {
		return err
	}
	c.Log.Warn("takes over", "by", by, "reason", reason)
	c.StandbyOf, c.tookOver = "", &api.AuditEntry{
		Who:    by,
		Action: "takeOver",
		Target: "/standby",
		Result: "done",
		After:  reason,
	}
	return c.Run(ctx)
}

// standbyAnswer answers requests at a standby: it is alive, and not ready.
func (c Serve) standbyAnswer(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Header().Set("Retry-After", "5")
	st, err := os.Stat(records(c.Data))
	says := "nothing was copied yet"
	if err == nil {
		says = "last change copied at " + st.ModTime().UTC().Format(time.RFC3339)
	}
	if !strings.HasSuffix(r.URL.Path, "/healthz") {
		w.WriteHeader(http.StatusServiceUnavailable)
	}
	fmt.Fprintf(w, "standby: %s. It takes over when told: lantern standby take-over\n", says)
}
