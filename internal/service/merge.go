package service

import (
	"encoding/json"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// MergeDrives moves the records of one identity of a drive to another: some firmware writes the serial in another form,
// and some bridges report a serial of their own. It cannot be undone, and is refused with any evidence that these are
// two drives.
func (s *Service) MergeDrives(by, from, into, reason string) (api.Drive, error) {
	key, err := s.merge(by, from, into, reason)
	if err != nil {
		return api.Drive{}, err
	}
	return s.Views.Drive(key)
}

func (s *Service) merge(by, from, into, reason string) (key string, err error) {
	if err := fleet.NeedReason(reason); err != nil {
		return "", err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	f := s.Fleet.State
	a, err := f.FindDrive(from)
	if err != nil {
		return "", err
	}
	d, err := f.FindDrive(into)
	if err != nil {
		return "", err
	}
	old, key := a.Key(), d.Key()
	if old == key {
		return "", problem.New(422, "bad-name", "Name the identity that is gone, then the one that is there.",
			"%s and %s are one identity.", from, into)
	}
	if err := s.busyWith(a, d); err != nil {
		return "", err
	}
	if err := fleet.TwoDrives(a, d); err != nil {
		return "", err
	}
	b := &store.Batch{}
	if err := s.rekey(b, old, key); err != nil {
		return "", err
	}
	before := d.Facts
	facts := d.Merged(a)
	b.Drop(&store.Drive{Key: old})
	b.Drop(&store.Standing{Drive: old})
	b.Put(&store.Drive{Key: key, Doc: ledger.Document(facts)})
	s.AddEvent(b, api.EventKindDrive, key, fleet.MergeWords(by, a, d, reason))
	s.Inventory.Rename(b, a.Desc.Serial, d.Desc.Serial)
	back := fleet.Unlist(f, a)
	d.Facts = facts // judging writes them again where the findings change
	d.Touch()
	if err := s.Commit(b); err != nil {
		back()
		d.Facts = before
		d.Touch()
		return "", err
	}
	for _, bay := range d.BadLinks {
		f.BadLink(key, d, bay)
	}
	f.BadLinksVersion++
	d.Saved = 0
	s.Readings.Recall(key)
	s.Changed()
	return key, nil
}

// busyWith describes what is under way with one of two identities.
func (s *Service) busyWith(a, d *fleet.Drive) error {
	for _, x := range []*fleet.Drive{a, d} {
		key := x.Key()
		switch {
		case s.Fleet.Work.Concerns(key):
			return problem.New(
				409,
				"swap-open",
				"End it or abandon it first: lantern swap list",
				"A swap concerns %s.",
				x.Tail(),
			)
		case s.Selftests.Runs[key] != nil:
			return problem.New(409, "in-use", "Wait for its end, or stop it.", "A self-test of %s runs.", x.Tail())
		case s.Stock.AcceptanceOf(key) != nil:
			return problem.New(
				409,
				"in-use",
				"Wait for its end, or stop it.",
				"An acceptance test of %s is under way.",
				x.Tail(),
			)
		}
	}
	if pools := s.Fleet.PoolsWith(a.Key()); len(pools) > 0 {
		return problem.New(409, "is-member", "Wait until its pool names the drive by its new identity.",
			"%s has a place in %s.", a.Tail(), pools[0].Name)
	}
	return nil
}

// rekey moves the records of one drive to the key of another, in a batch.
func (s *Service) rekey(b *store.Batch, from, to string) error {
	readings, err := store.All[store.Reading](s.Store, "at", "drive = ?", from)
	if err != nil {
		return err
	}
	for _, r := range readings {
		b.Drop(&store.Reading{Drive: from, At: r.At})
		r.Drive = to
		b.Add(&r)
	}
	blocks, err := store.All[store.Block](s.Store, "first", "drive = ?", from)
	if err != nil {
		return err
	}
	for _, r := range blocks {
		b.Drop(&store.Block{Drive: from, First: r.First})
		r.Drive = to
		b.Put(&r)
	}
	b.Drop(&store.DriveRecord{Drive: from}) // computed again from the records of the new key
	b.Drop(&store.DriveRecord{Drive: to})
	found, err := store.All[store.FoundLog](s.Store, "id", "drive = ?", from)
	if err != nil {
		return err
	}
	for _, r := range found {
		r.Drive = to
		b.Put(&r)
	}
	pages, err := store.All[store.BadPage](s.Store, "id", "drive = ?", from)
	if err != nil {
		return err
	}
	for _, r := range pages {
		r.Drive = to
		b.Put(&r)
	}
	runs, err := store.All[store.TestRun](s.Store, "id", "drive = ?", from)
	if err != nil {
		return err
	}
	for _, r := range runs {
		r.Drive, r.Doc = to, ofDrive(r.Doc, to)
		b.Put(&r)
	}
	events, err := store.All[store.Event](s.Store, "id", "kind = ? and subject = ?", string(api.EventKindDrive), from)
	if err != nil {
		return err
	}
	for _, r := range events {
		r.Subject = to
		b.Put(&r)
	}
	return nil
}

// ofDrive is a record's JSON with another drive's key.
func ofDrive(doc []byte, key string) []byte {
	m := map[string]json.RawMessage{}
	if json.Unmarshal(doc, &m) != nil {
		return doc
	}
	m["drive"] = ledger.Document(key)
	return ledger.Document(m)
}
