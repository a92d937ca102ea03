package sites

import (
	"crypto/subtle"
	"sync"
	"time"

	"lantern/internal/api"
	"lantern/internal/service/secret"
	"lantern/internal/store"
)

// Registry is which sites a headquarters lets in. What is in memory is a copy of what is in the store.
type Registry struct {
	store *store.Store
	mu    sync.Mutex // guards sites
	sites map[string]store.Site
}

// secretPrefix says what a secret is for.
const secretPrefix = "lan-site-"

// OpenRegistry reads which sites are let in.
func OpenRegistry(st *store.Store) (*Registry, error) {
	rows, err := store.All[store.Site](st, "name", "")
	if err != nil {
		return nil, err
	}
	r := &Registry{store: st, sites: map[string]store.Site{}}
	for _, row := range rows {
		r.sites[row.Name] = row
	}
	return r, nil
}

// Rows are the sites that were invited.
func (r *Registry) Rows() (out []api.Site) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, row := range r.sites {
		out = append(out, api.Site{Name: row.Name, InvitedAt: row.Invited, By: row.By})
	}
	return out
}

// Knows says whether a site is let in with a secret.
func (r *Registry) Knows(name, given string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	row, known := r.sites[name]
	return known && subtle.ConstantTimeCompare(row.Hash, secret.Hash(given)) == 1
}

// Invite lets a site in, with a secret that is told once; the one it had before counts no more.
func (r *Registry) Invite(by, name string, now time.Time) (string, error) {
	if err := CheckName(name); err != nil {
		return "", err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	told := secret.New(secretPrefix)
	row := store.Site{Name: name, Hash: secret.Hash(told), Invited: now.UTC(), By: by}
	b := &store.Batch{}
	b.Put(&row)
	if err := r.store.Write(b); err != nil {
		return "", err
	}
	r.sites[name] = row
	return told, nil
}

// Remove lets a site in no more; known is false where it never was.
func (r *Registry) Remove(name string) (known bool, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if _, known = r.sites[name]; !known {
		return false, nil
	}
	b := &store.Batch{}
	b.Drop(&store.Site{Name: name})
	if err := r.store.Write(b); err != nil {
		return true, err
	}
	delete(r.sites, name)
	return true, nil
}
