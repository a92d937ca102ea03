// Package redfish asks a server's management controller for its bays and switches their lights, by Redfish (DMTF
// DSP0266 for the protocol, DSP8010 for the resources). It reads little and slowly: controllers are small computers.
package redfish

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"lantern/internal/clock"
	"lantern/internal/core/enclosure"
	"lantern/internal/link"
)

// Settings are where a controller is, and how it is talked to.
type Settings struct {
	URL         string // such as https://192.0.2.7; no path
	User        string
	Password    string
	Fingerprint string // SHA-256 of its certificate; empty where an authority of this machine vouches for it
}

// Bounds of what is read of a controller.
const (
	largest     = 1 << 20
	mostChassis = 64
	mostDrives  = 1000
	mostPages   = 20
	mostQuery   = 256
	oneLimit    = 20 * time.Second
	lightLimit  = 15 * time.Second
)

// Client talks to one controller.
type Client struct {
	base *url.URL
	user string
	pass string
	http *http.Client
}

// New checks settings and makes a client; nothing is asked yet.
func New(s Settings) (*Client, error) {
	base, err := url.Parse(s.URL)
	if err != nil || base.Host == "" || base.User != nil || strings.Trim(base.Path,
		"/")+base.RawQuery+base.Fragment != "" {
		return nil, fmt.Errorf("%q is not the address of a management controller, such as https://192.0.2.7", s.URL)
	}
	if s.User == "" || s.Password == "" {
		return nil, errors.New("a management controller wants a user and a password")
	}
	t, err := link.Transport(s.URL, link.Options{Fingerprint: s.Fingerprint})
	if err != nil {
		return nil, err
	}
	t.ResponseHeaderTimeout = oneLimit
	return &Client{
		base: base, user: s.User, pass: s.Password,
		// A controller that leads elsewhere would be given the password there.
		http: &http.Client{Transport: t, CheckRedirect: func(*http.Request,
			[]*http.Request) error {
			return http.ErrUseLastResponse
		}},
	}, nil
}

// ask sends one request; tag is the resource's entity tag, empty where there is none.
func (c *Client) ask(ctx context.Context, method, uri, tag string, body, into any) (newTag string, err error) {
	path, query, _ := strings.Cut(uri, "?") // pages of a collection are distinguished by a query
	if !enclosure.LocalURI(path) || len(query) > mostQuery || strings.ContainsAny(query, "# \r\n\t") {
		return "", fmt.Errorf("the controller names a resource %.80q, which is none of its own", uri)
	}
	ctx, cancel := context.WithTimeout(ctx, oneLimit)
	defer cancel()
	var send io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return "", err
		}
		send = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base.Scheme+"://"+c.base.Host+uri, send)
	if err != nil {
		return "", err
	}
	req.SetBasicAuth(c.user, c.pass)
	req.Header.Set("Accept", "application/json")
	req.Header.Set("OData-Version", "4.0")
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
		if tag != "" {
			req.Header.Set("If-Match", tag)
		}
	}
	res, err := c.http.Do(req)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	b, err := io.ReadAll(io.LimitReader(res.Body, largest+1))
	switch {
	case err != nil:
		return "", err
	case res.StatusCode == http.StatusUnauthorized || res.StatusCode == http.StatusForbidden:
		return "", fmt.Errorf("the controller refuses this user (%d)", res.StatusCode)
	case res.StatusCode/100 != 2:
		return "", fmt.Errorf("%s: the controller answered %d", uri, res.StatusCode)
	case len(b) > largest:
		return "", fmt.Errorf("%s: the controller's answer is longer than %d bytes", uri, largest)
	case into == nil:
		return "", nil
	}
	if err := json.Unmarshal(b, into); err != nil {
		return "", fmt.Errorf("%s: the controller's answer is not JSON as the standard says: %w", uri, err)
	}
	return res.Header.Get("ETag"), nil
}

type reference struct {
	ID string `json:"@odata.id"`
}

// members are the URIs in a collection, over all its pages.
func (c *Client) members(ctx context.Context, uri string, most int) (out []string, err error) {
	for page := 0; uri != ""; page++ {
		if page == mostPages {
			return nil, fmt.Errorf("%s: the collection has more than %d pages", uri, mostPages)
		}
		var v struct {
			Members []reference `json:"Members"`
			Next    string      `json:"Members@odata.nextLink"`
		}
		if _, err := c.ask(ctx, http.MethodGet, uri, "", nil, &v); err != nil {
			return nil, err
		}
		for _, m := range v.Members {
			out = append(out, m.ID)
		}
		if len(out) > most {
			return nil, fmt.Errorf("%s: the collection has more than %d members", uri, most)
		}
		uri = v.Next
	}
	return out, nil
}

// Seats reads all bays of which the controller tells.
func (c *Client) Seats(ctx context.Context) (out []enclosure.Seat, err error) {
	var root struct {
		Chassis reference `json:"Chassis"`
		Systems reference `json:"Systems"`
	}
	if _, err := c.ask(ctx, http.MethodGet, "/redfish/v1/", "", nil, &root); err != nil {
		return nil, err
	}
	w := walk{c: c, chassis: map[string]string{}}
	if root.Chassis.ID != "" {
		if err := w.ofChassis(ctx, root.Chassis.ID); err != nil {
			return nil, err
		}
	}
	if root.Systems.ID != "" {
		if err := w.ofSystems(ctx, root.Systems.ID); err != nil {
			return nil, err
		}
	}
	if len(w.drives) > mostDrives {
		return nil, fmt.Errorf("the controller lists %d drives, more than %d", len(w.drives), mostDrives)
	}
	for _, uri := range w.drives {
		s, err := c.seat(ctx, uri)
		if err != nil {
			return nil, err
		}
		if s.Chassis == "" {
			s.Chassis = w.chassis[uri]
		}
		out = append(out, s)
	}
	return out, nil
}

// walk finds the drives' resources, each once, in the order in which the controller lists them.
type walk struct {
	c       *Client
	drives  []string
	chassis map[string]string // by the drive's URI; empty where nothing tells
}

func (w *walk) add(uri, chassis string) {
	if was, there := w.chassis[uri]; !there {
		w.drives = append(w.drives, uri)
		w.chassis[uri] = chassis
	} else if was == "" {
		w.chassis[uri] = chassis
	}
}

func (w *walk) ofChassis(ctx context.Context, uri string) error {
	all, err := w.c.members(ctx, uri, mostChassis)
	if err != nil {
		return err
	}
	for _, one := range all {
		var v struct {
			Drives reference `json:"Drives"`
			Links  struct {
				Drives []reference `json:"Drives"`
			} `json:"Links"`
		}
		if _, err := w.c.ask(ctx, http.MethodGet, one, "", nil, &v); err != nil {
			return err
		}
		for _, d := range v.Links.Drives {
			w.add(d.ID, one)
		}
		if v.Drives.ID == "" {
			continue
		}
		drives, err := w.c.members(ctx, v.Drives.ID, mostDrives)
		if err != nil {
			return err
		}
		for _, d := range drives {
			w.add(d, one)
		}
	}
	return nil
}

func (w *walk) ofSystems(ctx context.Context, uri string) error {
	systems, err := w.c.members(ctx, uri, mostChassis)
	if err != nil {
		return err
	}
	for _, one := range systems {
		var v struct {
			Storage reference `json:"Storage"`
		}
		if _, err := w.c.ask(ctx, http.MethodGet, one, "", nil, &v); err != nil {
			return err
		}
		if v.Storage.ID == "" {
			continue
		}
		storage, err := w.c.members(ctx, v.Storage.ID, mostChassis)
		if err != nil {
			return err
		}
		for _, st := range storage {
			var v struct {
				Drives []reference `json:"Drives"`
			}
			if _, err := w.c.ask(ctx, http.MethodGet, st, "", nil, &v); err != nil {
				return err
			}
			for _, d := range v.Drives {
				w.add(d.ID, "")
			}
		}
	}
	return nil
}

func (c *Client) seat(ctx context.Context, uri string) (enclosure.Seat, error) {
	s, _, err := c.tagged(ctx, uri)
	return s, err
}

func (c *Client) tagged(ctx context.Context, uri string) (s enclosure.Seat, tag string, err error) {
	var doc json.RawMessage
	if tag, err = c.ask(ctx, http.MethodGet, uri, "", nil, &doc); err != nil {
		return s, "", err
	}
	s, err = enclosure.DecodeSeat(doc)
	if err == nil && strings.TrimRight(s.URI, "/") != strings.TrimRight(uri, "/") {
		err = fmt.Errorf("%s: the controller answered with %s", uri, s.URI)
	}
	return s, tag, err
}

// Light switches the light of a bay, and returns what the controller then reports about it, which may change only after
// a while. A light is not switched on where another drive is in the bay than when the controller was asked for it.
func (c *Client) Light(ctx context.Context, of enclosure.Seat, on bool) (lit bool, err error) {
	uri := of.URI
	s, tag, err := c.tagged(ctx, uri)
	switch {
	case err != nil:
		return false, err
	case on && (s.Serial != of.Serial || s.WWN != of.WWN || s.Number != of.Number):
		return false, errors.New("another drive is there than before: look again")
	}
	var body map[string]any
	switch s.Light {
	case enclosure.LightActive:
		body = map[string]any{enclosure.LightActive: on}
	case enclosure.LightOld:
		body = map[string]any{enclosure.LightOld: map[bool]string{true: "Lit", false: "Off"}[on]}
	default:
		return false, errors.New("its management controller reports no light for this bay")
	}
	if s.Lit == on {
		return on, nil
	}
	if _, err := c.ask(ctx, http.MethodPatch, uri, tag, body, nil); err != nil {
		return false, err
	}
	for end := time.Now().Add(lightLimit); ; {
		if s, err = c.seat(ctx, uri); err != nil || s.Lit == on || time.Now().After(end) {
			return s.Lit, err
		}
		if err := (clock.Real{}).Sleep(ctx, 300*time.Millisecond); err != nil {
			return s.Lit, err
		}
	}
}
