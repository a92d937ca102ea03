package sites

import (
	"crypto/subtle"
	"sync"
	"time"

	"lantern/internal/api"
	"lantern/internal/service/secret"
	"lantern/internal/store"
)

// Registry has the sites that were invited, and the hashes of their secrets. The store has the same.
type Registry struct {
	store *store.Store
	mu    sync.Mutex // guards sites
	sites map[string]store.Site
}

// secretPrefix marks the secrets of sites.
const secretPrefix = "lan-site-"

// OpenRegistry reads the sites from the store.
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

// Rows returns the sites that were invited.
func (r *Registry) Rows() (out []api.Site) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, row := range r.sites {
		out = append(out, api.Site{Name: row.Name, InvitedAt: row.Invited, By: row.By})
	}
	return out
}

// Knows reports whether a site was invited and the secret is right.
func (r *Registry) Knows(name, given string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	row, known := r.sites[name]
	return known && subtle.ConstantTimeCompare(row.Hash, secret.Hash(given)) == 1
}

// Has reports whether a site was invited and not removed since.
func (r *Registry) Has(name string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	_, known := r.sites[name]
	return known
}

// Invite adds a site and returns its secret. An older secret of it becomes invalid.
func (r *Registry) Invite(by, name string, now time.Time) (string, error) {
	if err := CheckName(name); err != nil {
		return "", err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	plain := secret.New(secretPrefix)
	row := store.Site{Name: name, Hash: secret.Hash(plain), Invited: now.UTC(), By: by}
	b := &store.Batch{}
	b.Put(&row)
	if err := r.store.Write(b); err != nil {
		return "", err
	}
	r.sites[name] = row
	return plain, nil
}

// Remove removes a site; known is false if it was not invited.
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
