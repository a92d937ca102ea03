package httpd

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// issuer is a small identity provider: whoever asks is the person that claims says.
type issuer struct {
	t      *testing.T
	server *httptest.Server
	key    *rsa.PrivateKey
	claims map[string]any
	codes  map[string]url.Values // what was asked for, by code
	forge  func(claims map[string]any) *rsa.PrivateKey
}

func newIssuer(t *testing.T) *issuer {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	p := &issuer{t: t, key: key, codes: map[string]url.Values{}}
	mux := http.NewServeMux()
	say := func(w http.ResponseWriter, v any) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(v)
	}
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		say(w, map[string]any{"issuer": p.server.URL, "authorization_endpoint": p.server.URL + "/authorize",
			"token_endpoint": p.server.URL + "/token", "jwks_uri": p.server.URL + "/keys",
			"id_token_signing_alg_values_supported": []string{"RS256"}})
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		say(
			w,
			jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &key.PublicKey, KeyID: "k", Algorithm: "RS256", Use: "sig"}}},
		)
	})
	mux.HandleFunc("/authorize", func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		code := "code-" + q.Get("state")
		p.codes[code] = q
		http.Redirect(
			w,
			r,
			q.Get("redirect_uri")+"?"+url.Values{"code": {code}, "state": {q.Get("state")}}.Encode(),
			http.StatusFound,
		)
	})
	mux.HandleFunc("/token", func(w http.ResponseWriter, r *http.Request) {
		asked, ok := p.codes[r.FormValue("code")]
		delete(p.codes, r.FormValue("code"))
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if !ok || base64.RawURLEncoding.EncodeToString(sum[:]) != asked.Get("code_challenge") {
			http.Error(w, `{"error":"invalid_grant"}`, http.StatusBadRequest)
			return
		}
		claims := map[string]any{"iss": p.server.URL, "aud": "lantern", "sub": "1", "nonce": asked.Get("nonce"),
			"iat": time.Now().Unix(), "exp": time.Now().Add(time.Minute).Unix()}
		for k, v := range p.claims {
			claims[k] = v
		}
		signing := p.key
		if p.forge != nil {
			if other := p.forge(claims); other != nil {
				signing = other
			}
		}
		signer, err := jose.NewSigner(
			jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: signing, KeyID: "k"}},
			nil,
		)
		require.NoError(t, err)
		b, _ := json.Marshal(claims)
		signed, err := signer.Sign(b)
		require.NoError(t, err)
		raw, err := signed.CompactSerialize()
		require.NoError(t, err)
		say(w, map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": raw})
	})
	p.server = httptest.NewServer(mux)
	t.Cleanup(p.server.Close)
	return p
}

// TestProvider: people with a valid answer of the provider sign in with its role; forged, foreign, old and replayed
// answers are refused, and so is the name of a person with a token. Tokens work while the provider is down.
func TestProvider(t *testing.T) {
	s := newSite(t)
	p := newIssuer(t)
	s.server.Provider = &Provider{Issuer: p.server.URL, ClientID: "lantern", URL: s.url, RoleClaim: "roles"}
	// enter does the whole sign-in in a separate browser, and returns the last address.
	enter := func(change func(u *url.URL)) (where string, me api.Me) {
		jar, err := cookiejar.New(nil)
		require.NoError(t, err)
		client := &http.Client{Jar: jar, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
			if change != nil && r.URL.Path == backPath {
				change(r.URL)
			}
			return nil
		}}
		a, err := client.Get(s.url + "/sign-in/provider")
		require.NoError(t, err)
		a.Body.Close()
		b, err := client.Get(s.url + base + "/me")
		require.NoError(t, err)
		defer b.Body.Close()
		_ = json.NewDecoder(b.Body).Decode(&me)
		return a.Request.URL.RequestURI(), me
	}
	p.claims = map[string]any{"preferred_username": "bo@heron.example", "roles": []string{"staff", "viewer", "operator"}}
	where, me := enter(nil)
	require.Equal(t, "/", where)
	require.Equal(t, "bo@heron.example", me.Name)
	require.Equal(t, api.Operator, me.Role)
	p.claims["roles"] = "viewer"
	_, me = enter(nil)
	require.Equal(t, api.Viewer, me.Role, "the role is what the provider says now")

	refused := "/sign-in?why=provider-refused"
	stranger, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	for name, forge := range map[string]func(claims map[string]any) *rsa.PrivateKey{
		"another key":     func(map[string]any) *rsa.PrivateKey { return stranger },
		"another service": func(c map[string]any) *rsa.PrivateKey { c["aud"] = "other"; return nil },
		"another issuer":  func(c map[string]any) *rsa.PrivateKey { c["iss"] = "https://evil.example"; return nil },
		"an old token":    func(c map[string]any) *rsa.PrivateKey { c["exp"] = time.Now().Add(-time.Hour).Unix(); return nil },
		"another sign-in": func(c map[string]any) *rsa.PrivateKey { c["nonce"] = "n"; return nil },
		"no role":         func(c map[string]any) *rsa.PrivateKey { delete(c, "roles"); return nil },
		"a made-up role":  func(c map[string]any) *rsa.PrivateKey { c["roles"] = "root"; return nil },
		"ida's name": func(c map[string]any) *rsa.PrivateKey {
			c["preferred_username"] = "ida"
			c["roles"] = "admin"
			return nil
		},
		"no name": func(c map[string]any) *rsa.PrivateKey { delete(c, "preferred_username"); return nil },
	} {
		p.forge = forge
		where, me := enter(nil)
		require.Equal(t, refused, where, name)
		require.Empty(t, me.Name, name)
	}
	p.forge = nil
	for name, change := range map[string]func(u *url.URL){
		"another state": func(u *url.URL) { u.RawQuery = "code=x&state=guess" },
		"no code":       func(u *url.URL) { q := u.Query(); q.Del("code"); u.RawQuery = q.Encode() },
		"an error":      func(u *url.URL) { q := u.Query(); q.Set("error", "access_denied"); u.RawQuery = q.Encode() },
	} {
		where, _ := enter(change)
		require.Equal(t, refused, where, name)
	}
	// An answer is valid once, and only in the browser that asked.
	var back string
	_, _ = enter(func(u *url.URL) { back = u.String() })
	a, err := http.Get(back)
	require.NoError(t, err)
	a.Body.Close()
	require.Equal(t, refused, a.Request.URL.RequestURI())

	p.server.Close()
	s.server.Provider = &Provider{Issuer: p.server.URL, ClientID: "lantern", URL: s.url, RoleClaim: "roles"}
	where, _ = enter(nil)
	require.Equal(t, "/sign-in?why=provider-silent", where)
	status, _, _ := s.as("GET", "/round", "")
	require.Equal(t, 200, status, "tokens work while it is down")
}
