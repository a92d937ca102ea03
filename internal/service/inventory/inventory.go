package inventory

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/inventory"
	"lantern/internal/core/pool"
	"lantern/internal/nearest"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// mostRows is the greatest number of drives in one import.
const mostRows = 20000

// drives are the drives by serial in capitals; of several with one serial, all. They are found again when drives
// appeared or vanished.
func (s *State) drives() map[string][]*fleet.Drive {
	if s.bySerial != nil && s.known == len(s.fleet.Drives) && s.gone == s.fleet.BadLinksVersion {
		return s.bySerial
	}
	s.bySerial, s.known, s.gone = map[string][]*fleet.Drive{}, len(s.fleet.Drives), s.fleet.BadLinksVersion
	for _, d := range s.fleet.Drives {
		if k := key(d.Desc.Serial); k != "" {
			s.bySerial[k] = append(s.bySerial[k], d)
		}
	}
	return s.bySerial
}

// wholeSerial is the least length of a name that is treated only as a whole serial.
const wholeSerial = 8

// resolve finds the serial for a name: any name of a drive, or the serial of an item whose drive was not seen.
func (s *State) resolve(name string, whole bool) (serial string, err error) {
	if i := s.items[key(name)]; i != nil {
		return i.Serial, nil
	}
	if same := s.drives()[key(name)]; len(same) == 1 {
		return same[0].Desc.Serial, nil
	}
	if whole && len(name) >= wholeSerial && !strings.Contains(name, "/") {
		return "", problem.New(404, "no-drive", "List them with: lantern inventory", "Nothing has the serial %q.", name)
	}
	d, err := s.fleet.FindDrive(name)
	if err == nil {
		if key(d.Desc.Serial) == "" {
			return "", problem.New(
				422,
				"no-drive",
				"Its inventory cannot be kept under a serial.",
				"%s reports no serial.",
				d.Tail(),
			)
		}
		return d.Desc.Serial, nil
	}
	var fits []string
	for k, i := range s.items {
		if strings.HasSuffix(k, key(name)) && key(name) != "" {
			fits = append(fits, i.Serial)
		}
	}
	if len(fits) == 1 {
		return fits[0], nil
	}
	return "", err
}

// InventoryItems lists the items that match: every drive, and every item whose drive was not seen yet, by serial.
func (s *Service) InventoryItems(where, q string) ([]api.InventoryItem, error) {
	conditions, err := conditionsOf(where)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.Clock.Now()
	drives := s.drives()
	serials := map[string]bool{}
	for k := range drives {
		serials[k] = true
	}
	for k := range s.items {
		serials[k] = true
	}
	out := []api.InventoryItem{}
	for k := range serials {
		i := s.items[k]
		if i == nil {
			i = &inventory.Item{Serial: drives[k][0].Desc.Serial}
		}
		if slices.ContainsFunc(conditions, func(c inventory.Condition) bool { return !c.Holds(i, now) }) {
			continue
		}
		v := s.view(i, drives[k])
		if q == "" || matches(v, q) {
			out = append(out, v)
		}
	}
	slices.SortFunc(out, func(a, b api.InventoryItem) int { return cmp.Compare(a.Serial, b.Serial) })
	return out, nil
}

func matches(v api.InventoryItem, q string) bool {
	for _, word := range strings.Fields(strings.ToLower(q)) {
		found := strings.Contains(strings.ToLower(v.Serial+" "+v.Model+" "+v.Place+" "+v.Pool), word)
		for _, text := range v.Fields {
			found = found || strings.Contains(strings.ToLower(text), word)
		}
		if !found {
			return false
		}
	}
	return true
}

// conditionsOf parses conditions joined by commas; all must be about the inventory.
func conditionsOf(where string) (out []inventory.Condition, err error) {
	for _, part := range strings.Split(where, ",") {
		if strings.TrimSpace(part) == "" {
			continue
		}
		c, ours, err := inventory.ParseCondition(part)
		if err != nil || !ours {
			return nil, problem.New(
				422,
				"bad-where",
				"What can be asked for: "+strings.Join(inventory.Comparable(), ", "),
				"%s.",
				cmp.Or(errText(err), fmt.Sprintf("%q is not a condition, such as warranty_days<90", strings.TrimSpace(part))),
			)
		}
		out = append(out, c)
	}
	return out, nil
}

func errText(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}

// view is an item with the data that its drive reports.
func (s *State) view(i *inventory.Item, drives []*fleet.Drive) api.InventoryItem {
	v := api.InventoryItem{
		Serial: i.Serial,
		Model:  i.Model,
		Fields: map[string]string{},
		Notes:  []api.InventoryNote{},
		Seen:   api.InventoryItemSeenNever,
	}
	for _, f := range inventory.Fields {
		if text := f.Get(i); text != "" {
			v.Fields[f.Name] = text
		}
	}
	if days, ok := i.WarrantyDays(s.Clock.Now()); ok {
		v.WarrantyDays = days
	}
	for _, n := range i.Notes {
		v.Notes = append(v.Notes, api.InventoryNote{At: n.At, HappenedAt: n.Happened, By: n.By, Text: n.Text})
	}
	if len(drives) > 1 {
		v.Says = fmt.Sprintf("%d drives have this serial; this entry belongs to one of them", len(drives))
	}
	for _, d := range drives {
		k := d.Key()
		if v.Drive != "" && !d.Present {
			continue
		}
		v.Drive, v.Tail, v.Model, v.CapacityBytes = k, d.Tail(), d.Desc.Model, int64(d.Desc.Capacity)
		v.Seen = api.InventoryItemSeenBefore
		if d.Present {
			v.Seen, v.Place = api.InventoryItemSeenNow, cmp.Or(d.BayName(), fleet.PlaceWords(d))
			if i.State.Gone() {
				v.Says = fmt.Sprintf("it is written down as %s, and %s reports it", i.State, d.Host)
			}
		}
		if p, _, _ := s.fleet.Member(k); p != nil {
			v.Pool = p.Name
		}
		v.Verdict = api.Verdict(s.judging.Judge()[k].Verdict)
	}
	v.State = s.stateOf(i, v)
	return v
}

// stateOf is the state of a drive in its life: an observation takes precedence over the record.
func (s *State) stateOf(i *inventory.Item, v api.InventoryItem) string {
	switch {
	case v.Pool != "" && v.Seen == api.InventoryItemSeenNow:
		if p, _, _ := s.fleet.Member(v.Drive); p != nil &&
			slices.ContainsFunc(p.Spares, func(m pool.Member) bool { return m.On(v.Drive) }) {
			return string(inventory.Spare)
		}
		return string(inventory.InUse)
	case i.State != "":
		return string(i.State)
	case v.Drive != "" && s.fleet.Drives[v.Drive].Stock:
		return string(inventory.Stock)
	}
	return ""
}

// Item is the record of one drive.
func (s *Service) Item(name string) (api.InventoryItem, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	serial, err := s.resolve(name, false)
	if err != nil {
		return api.InventoryItem{}, err
	}
	return s.itemOf(serial), nil
}

func (s *State) itemOf(serial string) api.InventoryItem {
	i := s.items[key(serial)]
	if i == nil {
		i = &inventory.Item{Serial: serial}
	}
	return s.view(i, s.drives()[key(serial)])
}

// ViewOf is the record of a drive for the views of other packages; empty where there is none.
func (s *State) ViewOf(d *fleet.Drive) (v api.InventoryItem, ok bool) {
	i := s.Of(d)
	if i == nil {
		return v, false
	}
	return s.view(i, []*fleet.Drive{d}), true
}

// SetItem sets fields of one drive, and adds a note where there is one.
func (s *Service) SetItem(by, name string, req api.InventorySet) (api.InventoryItem, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	serial, err := s.resolve(name, false)
	if err != nil {
		return api.InventoryItem{}, err
	}
	b := &store.Batch{}
	if _, err := s.change(b, by, serial, req.Fields, req.Note, req.HappenedAt); err != nil {
		return api.InventoryItem{}, problem.New(422, "bad-field", fieldsHint(req.Fields), "%s.", err)
	}
	s.related()
	if err := s.Commit(b); err != nil {
		return api.InventoryItem{}, err
	}
	return s.itemOf(serial), nil
}

func fieldsHint(fields map[string]string) string {
	for name := range fields {
		if _, ok := inventory.FieldNamed(name); !ok {
			if near := nearest.Among(name, inventory.Names()); near != "" {
				return "Did you mean " + near + "?"
			}
			return "All fields: " + strings.Join(inventory.Names(), ", ")
		}
	}
	return "All fields: lantern inventory fields"
}

// change adds the change of an item to a batch, and applies it in memory.
func (s *State) change(
	b *store.Batch,
	by, serial string,
	fields map[string]string,
	note string,
	happened time.Time,
) ([]inventory.Change, error) {
	next := inventory.Item{Serial: serial}
	if was := s.items[key(serial)]; was != nil {
		next = *was
		next.Notes = slices.Clone(was.Notes)
	}
	now := s.Clock.Now()
	state := next.State
	changes, err := next.SetAll(fields)
	if err != nil {
		return nil, err
	}
	if next.State != state && next.StateDay == "" {
		next.StateDay = now.Format(inventory.Day)
	}
	if note = strings.TrimSpace(note); note != "" {
		n, err := inventory.NewNote(by, note, happened, now)
		if err != nil {
			return nil, err
		}
		next.Notes = append(next.Notes, n)
	}
	if len(changes) == 0 && note == "" {
		return nil, nil
	}
	subject := key(serial)
	for _, d := range s.drives()[key(serial)] {
		subject = d.Key()
	}
	var set []string
	for _, c := range changes {
		one := fmt.Sprintf("%s %q", c.Field, c.To)
		if c.From != "" {
			one += fmt.Sprintf(" (was %q)", c.From)
		}
		set = append(set, one)
	}
	if len(set) > 0 {
		s.AddEvent(b, api.EventKindDrive, subject, fmt.Sprintf("%s recorded for %s: %s", by, serial, strings.Join(set, ", ")))
	}
	if note != "" {
		s.AddEvent(b, api.EventKindDrive, subject, NoteWords(by, serial, note))
	}
	s.items[key(serial)] = &next
	if slices.ContainsFunc(changes, func(c inventory.Change) bool { return c.Field == "batch" }) {
		s.batches = nil
		s.other = true
	}
	b.Put(&store.Inventory{Serial: key(serial), Doc: ledger.Document(next)})
	return changes, nil
}

// NoteWords is the text of a note's event.
func NoteWords(by, serial, text string) string {
	return fmt.Sprintf("%s noted of %s: %s", by, serial, text)
}

// related marks siblings for judging when batches changed.
func (s *State) related() {
	if s.other {
		s.fleet.BadLinksVersion++
		s.other = false
	}
}

// Import sets fields of many drives and adds notes, all of them or none. A dry run returns what would change. An
// invalid row refuses the whole import: half an import is worse than none.
func (s *Service) Import(by string, req api.InventoryImport) (api.InventoryImported, error) {
	out := api.InventoryImported{
		Changes: []api.InventoryChange{},
		Refused: []api.InventoryRefusal{},
		Rows:    len(req.Rows),
	}
	if len(req.Rows) > mostRows {
		return out, problem.New(422, "too-large", "Split it.", "An import names at most %d drives.", mostRows)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	b := &store.Batch{}
	seen := map[string]int{}
	for _, row := range req.Rows {
		serial, err := s.resolve(row.Name, row.Whole)
		var p *problem.Problem
		if errors.As(err, &p) && p.Type == "no-drive" && row.Whole {
			serial, err = strings.TrimSpace(row.Name), nil // a whole serial, of a drive that was not seen yet
			if len(serial) < 4 || len(serial) > 64 || strings.ContainsAny(serial, " \t/") {
				err = fmt.Errorf("%q is not a serial", row.Name)
			}
		}
		if err == nil && seen[key(serial)] != 0 {
			err = fmt.Errorf("line %d names it as well", seen[key(serial)])
		}
		seen[key(serial)] = row.Line
		var changes []inventory.Change
		if err == nil {
			changes, err = s.change(b, by, serial, row.Fields, row.Note, row.HappenedAt)
		}
		if err != nil {
			out.Refused = append(out.Refused, api.InventoryRefusal{Line: row.Line, Name: row.Name, Says: err.Error()})
			continue
		}
		for _, c := range changes {
			out.Changes = append(
				out.Changes,
				api.InventoryChange{Line: row.Line, Serial: serial, Field: c.Field, From: c.From, To: c.To},
			)
		}
		if note := strings.TrimSpace(row.Note); note != "" {
			out.Changes = append(out.Changes, api.InventoryChange{Line: row.Line, Serial: serial, Field: "note", To: note})
		}
	}
	s.related()
	if req.Dry || len(out.Refused) > 0 {
		return out, s.Undo(b)
	}
	if err := s.Commit(b); err != nil {
		return out, err
	}
	out.Written = true
	return out, nil
}

// RemoveItem deletes the record of a drive; the drive itself stays.
func (s *Service) RemoveItem(by, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	serial, err := s.resolve(name, false)
	if err != nil {
		return err
	}
	if s.items[key(serial)] == nil {
		return problem.New(404, "no-drive", "", "The inventory has no record of %s.", serial)
	}
	b := &store.Batch{}
	b.Drop(&store.Inventory{Serial: key(serial)})
	s.AddEvent(b, api.EventKindDrive, key(serial), fmt.Sprintf("%s removed the inventory of %s", by, serial))
	if err := s.Commit(b); err != nil {
		return err
	}
	delete(s.items, key(serial))
	s.batches = nil
	s.fleet.BadLinksVersion++
	s.Changed()
	return nil
}

// Fits reports whether the drive meets conditions of the inventory.
func (s *State) Fits(d *fleet.Drive, conditions []inventory.Condition) bool {
	i := s.Of(d)
	if i == nil {
		i = &inventory.Item{}
	}
	return !slices.ContainsFunc(conditions, func(c inventory.Condition) bool { return !c.Holds(i, s.Clock.Now()) })
}

// Fields are all that can be set.
func (s *Service) Fields() []api.InventoryField {
	out := make([]api.InventoryField, 0, len(inventory.Fields))
	for _, f := range inventory.Fields {
		out = append(out, api.InventoryField{Name: f.Name, Meaning: f.Meaning})
	}
	return out
}
