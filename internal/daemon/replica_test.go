package daemon

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"io"
	"log/slog"
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/pkg/sftp"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"lantern/internal/clock"
	"lantern/internal/service"
	"lantern/internal/store"
)

// sshServer is one with SFTP that takes a key; it gives its address and its own public key.
func sshServer(t *testing.T, home string, may ssh.PublicKey) (address string, own []byte) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	conf := &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, k ssh.PublicKey) (*ssh.Permissions, error) {
		if string(k.Marshal()) != string(may.Marshal()) {
			return nil, os.ErrPermission
		}
		return nil, nil
	}}
	conf.AddHostKey(signer)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				_, channels, requests, err := ssh.NewServerConn(conn, conf)
				if err != nil {
					return
				}
				go ssh.DiscardRequests(requests)
				for c := range channels {
					channel, asked, err := c.Accept()
					if err != nil {
						return
					}
					go func() {
						for r := range asked {
							_ = r.Reply(r.Type == "subsystem", nil)
						}
					}()
					go func() {
						if s, err := sftp.NewServer(channel, sftp.WithServerWorkingDirectory(home)); err == nil {
							_ = s.Serve()
						}
					}()
				}
			}()
		}
	}()
	return l.Addr().String(), ssh.MarshalAuthorizedKey(signer.PublicKey())
}

// TestReplicaOverSSH: records are copied over SFTP only to a machine with the given key; a standby takes over with all
// of them, and only when a person orders it.
func TestReplicaOverSSH(t *testing.T) {
	dir := t.TempDir()
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	key, host := filepath.Join(dir, "key"), filepath.Join(dir, "host.pub")
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(block), 0o600))
	may, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	at, own := sshServer(t, dir, may)
	require.NoError(t, os.WriteFile(host, own, 0o600))
	address := "sftp://lantern@" + at + "/copy?key=" + key + "&host-key=" + host // below the directory of the sign-in

	for _, wrong := range []string{
		"sftp://lantern@" + at + "/copy", "sftp://lantern:secret@" + at + "/copy?key=" + key + "&host-key=" + host,
		"sftp://lantern@" + at + "/copy?key=/nosuch&host-key=" + host,
		"sftp://lantern@" + at + "/copy?key=" + key + "&host-key=/nosuch",
		"carrier://pigeon",
	} {
		require.Error(t, CheckReplica("--replicate-to", wrong), wrong)
	}

	log := slog.New(slog.DiscardHandler)
	copied(t, dir, address)

	// Nothing is sent to another machine with the same address.
	elsewhere := t.TempDir()
	other, _ := sshServer(t, elsewhere, may)
	c, err := replica(nil, "sftp://lantern@"+other+"/copy?key="+key+"&host-key="+host, log)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	require.ErrorContains(t, c.Client.Init(ctx), "host key mismatch")
	require.NoDirExists(t, filepath.Join(elsewhere, "copy"))
	require.DirExists(t, filepath.Join(dir, "copy"))
}

// copied has records copied to an address, follows them there as a standby, and takes over: all of it is there.
func copied(t *testing.T, dir, address string) {
	t.Helper()
	log := slog.New(slog.DiscardHandler)
	first := Serve{
		Listen:      "127.0.0.1:0",
		Data:        filepath.Join(dir, "first"),
		Out:         io.Discard,
		Log:         log,
		ReplicateTo: address,
	}
	require.NoError(t, os.Mkdir(first.Data, 0o700))
	r, err := first.start(t.Context(), clock.Real{}, nil)
	require.NoError(t, err)
	_, err = r.service.Fleet.Enrol("ida", "skerry", false)
	require.NoError(t, err)

	second := Serve{Data: filepath.Join(dir, "second"), Out: io.Discard, Log: log, StandbyOf: address}
	require.NoError(t, os.Mkdir(second.Data, 0o700))
	require.ErrorContains(t, TakeOver(second.Data, "ida", "x"), "not the folder of a standby")
	type told struct{ by, reason string }
	done, failed := make(chan told, 1), make(chan error, 1)
	go func() {
		by, reason, err := second.follow(t.Context())
		failed <- err
		done <- told{by, reason}
	}()
	require.Eventually(
		t,
		func() bool { _, err := os.Stat(txidOf(second.Data)); return err == nil },
		time.Minute,
		50*time.Millisecond,
	)
	_, err = r.service.Fleet.Enrol("ida", "petrel", false)
	require.NoError(t, err)
	require.NoError(t, r.stop(), "what is left is copied at the end")
	require.NoError(t, TakeOver(second.Data, "ida", "planned"))
	require.NoError(t, <-failed)
	require.Equal(t, told{"ida", "planned"}, <-done)
	st, err := store.Open(records(second.Data))
	require.NoError(t, err)
	s, err := service.New(st, clock.Real{}, log)
	require.NoError(t, err)
	require.Len(t, s.Views.Hosts(), 2, "all of it is there")
	require.NoError(t, st.Close())
	_, _, err = Serve{Data: second.Data, Log: log, StandbyOf: address}.follow(t.Context())
	require.ErrorContains(t, err, "holds a database that is not a copy")
}

// TestReplicaInObjectStore: the same with a store that speaks the protocol of S3; its key is in no address, and records
// are sent to another machine only over TLS.
func TestReplicaInObjectStore(t *testing.T) {
	t.Setenv("AWS_ACCESS_KEY_ID", "lantern")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "a secret")
	t.Setenv("AWS_CA_BUNDLE", "") // the engine has its own client, which does not support it
	objects := s3mem.New()
	require.NoError(t, objects.CreateBucket("records"))
	server := httptest.NewServer(gofakes3.New(objects, gofakes3.WithTimeSkewLimit(0)).Server())
	t.Cleanup(server.Close)
	copied(t, t.TempDir(), "s3://records/copy?region=eu-north-1&endpoint="+server.URL)
	held, err := objects.ListBucket("records", &gofakes3.Prefix{Prefix: "copy/", HasPrefix: true}, gofakes3.ListBucketPage{})
	require.NoError(t, err)
	require.NotEmpty(t, held.Contents)
	for _, wrong := range []string{"s3://lantern:secret@records/copy", "s3://records/copy?endpoint=http://192.0.2.1:9000",
		"s3://records/copy?secret-access-key=x"} {
		require.Error(t, CheckReplica("--replicate-to", wrong), wrong)
	}
}
