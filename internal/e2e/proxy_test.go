package e2e

import (
	"bufio"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// certificate writes a certificate for 127.0.0.1 and its key, and says where.
func certificate(t *testing.T) (cert, key string) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	about := &x509.Certificate{
		SerialNumber: big.NewInt(1),
		NotBefore:    time.Now().Add(-time.Hour),
		NotAfter:     time.Now().Add(24 * time.Hour),
		IPAddresses:  []net.IP{net.IPv4(127, 0, 0, 1)},
	}
	der, err := x509.CreateCertificate(rand.Reader, about, about, private.Public(), private)
	require.NoError(t, err)
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	cert, key = filepath.Join(t.TempDir(), "cert.pem"), filepath.Join(t.TempDir(), "key.pem")
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600))
	return cert, key
}

// nginx runs Debian's reverse proxy with the given server settings and its defaults.
func nginx(t *testing.T, server string) {
	path, err := exec.LookPath("nginx")
	if err != nil {
		fmt.Fprintln(
			os.Stderr,
			"\n*** SKIPPED: no reverse proxy was tried: nginx is missing: apt-get install nginx-light ***",
		)
		t.Skip("nginx is missing")
	}
	dir := t.TempDir()
	temporary := ""
	for _, kind := range []string{"client_body", "proxy", "fastcgi", "uwsgi", "scgi"} {
		temporary += fmt.Sprintf("  %s_temp_path %s/%s;\n", kind, dir, kind)
	}
	file := filepath.Join(dir, "nginx.conf")
	require.NoError(t, os.WriteFile(file, fmt.Appendf(
		nil,
		"daemon off; pid %s/pid; error_log %s/error.log; events {}\nhttp {\n  access_log off;\n%s  server {\n%s\n  }\n}\n",
		dir,
		dir,
		temporary,
		server,
	), 0o600))
	cmd := exec.Command(path, "-c", file, "-e", filepath.Join(dir, "error.log"))
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
		if b, _ := os.ReadFile(filepath.Join(dir, "error.log")); t.Failed() {
			t.Log(string(b))
		}
	})
}

// TestProxy: behind a reverse proxy with its default settings, at the root and under a path, with TLS in front: the
// sign-in link, the console's pages and files, its live events, the cookie, and the command line.
func TestProxy(t *testing.T) {
	cert, key := certificate(t)
	for name, c := range map[string]struct{ scheme, path, location, to string }{
		"top":                         {"http", "", "/", ""},
		"top, TLS":                    {"https", "", "/", ""},
		"path, TLS":                   {"https", "/storage", "/storage/", ""},
		"path that is taken off, TLS": {"https", "/storage", "/storage/", "/"},
	} {
		t.Run(name, func(t *testing.T) {
			front := freePort(t)
			url := c.scheme + "://" + front + c.path
			d := startDemo(t, "--base-url", url, "--trusted-proxy", "127.0.0.1")
			require.True(t, strings.HasPrefix(d.link, url+"/sign-in/once?code="), d.link)
			listen := front
			if c.scheme == "https" {
				listen += " ssl; ssl_certificate " + cert + "; ssl_certificate_key " + key
			}
			nginx(
				t,
				fmt.Sprintf("    listen %s;\n    location %s { proxy_pass http://%s%s; }", listen, c.location, d.listen, c.to),
			)
			away := &http.Client{
				Transport: &http.Transport{
					TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
				}, //nolint:gosec // its own certificate
				CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
			}
			await(t, "the proxy answers", func() int {
				r, err := away.Get(url + "/healthz")
				if err != nil {
					return 0
				}
				r.Body.Close()
				return r.StatusCode
			}, func(status int) bool { return status == http.StatusOK })

			r, err := away.Get(d.link)
			require.NoError(t, err)
			r.Body.Close()
			require.Equal(t, http.StatusSeeOther, r.StatusCode)
			require.Equal(t, c.path+"/", r.Header.Get("Location"))
			require.Len(t, r.Cookies(), 1)
			cookie := r.Cookies()[0]
			require.Equal(t, c.path+"/", cookie.Path)
			require.Equal(t, c.scheme == "https", cookie.Secure)

			events, err := http.NewRequest("GET", url+"/api/v1/events", nil)
			require.NoError(t, err)
			events.AddCookie(cookie)
			stream, err := away.Do(events)
			require.NoError(t, err)
			defer stream.Body.Close()
			lines := make(chan string, 1000)
			go func() {
				for s := bufio.NewScanner(stream.Body); s.Scan(); {
					lines <- s.Text()
				}
			}()
			select {
			case <-lines:
			case <-time.After(10 * time.Second):
				require.FailNow(t, "no event came through the proxy")
			}

			token, err := os.ReadFile(filepath.Join(d.data, "client.yaml"))
			require.NoError(t, err)
			_, after, _ := strings.Cut(string(token), "token: ")
			after, _, _ = strings.Cut(after, "\n")
			b := openBrowser(t, url, chromedp.Flag("ignore-certificate-errors", true))
			b.open("/drives")
			b.do("sign in", chromedp.WaitVisible("input"), chromedp.SendKeys("input", strings.Trim(after, `"`)+"\r"))
			b.see("ZU006")
			require.Equal(t, c.path+"/drives", b.ask(`location.pathname`), "it comes back to the page that was wanted")
			b.click("Round")
			b.see("soundscape")
			require.Equal(t, c.path, strings.TrimRight(b.ask(`location.pathname`), "/"))
			b.open("/bays/skerry")
			b.see("front")
			d.run("lab", "pull", "skerry/front/8")
			b.open("/")
			b.see("XE932")
			require.Equal(
				t,
				"0",
				b.ask(`String(performance.getEntriesByType("resource").filter((r) => r.responseStatus >= 400).length)`),
			)

			if c.scheme == "http" {
				require.Contains(t, d.run("--server", url, "round"), "ZU006")
			} else {
				require.Contains(t, d.run("--server", url, "--ca", cert, "round"), "ZU006")
			}
		})
	}
}
