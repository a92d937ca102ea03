// Package inventory holds what people record about a drive: purchase, price, warranty, batch, and its fate.
package inventory

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Item is the record of one drive, which is identified by its serial: it may not have been seen yet.
type Item struct {
	Serial string `json:"serial"`
	Model  string `json:"model,omitempty"` // as ordered; data from the drive itself takes precedence

	Purchased string   `json:"purchased,omitempty"` // days are written 2006-01-02
	Supplier  string   `json:"supplier,omitempty"`
	Order     string   `json:"order,omitempty"`
	Price     string   `json:"price,omitempty"` // decimal, as typed
	Currency  string   `json:"currency,omitempty"`
	Warranty  string   `json:"warranty,omitempty"` // the last day
	Asset     string   `json:"asset,omitempty"`
	Batch     string   `json:"batch,omitempty"`
	Contract  string   `json:"contract,omitempty"`
	Links     []string `json:"links,omitempty"`

	State       State  `json:"state,omitempty"`
	StateNumber string `json:"state_number,omitempty"` // number of a return, or of a certificate
	StateDay    string `json:"state_day,omitempty"`

	Notes []Note `json:"notes,omitempty"`
}

// Note is a note about a drive.
type Note struct {
	At       time.Time `json:"at"`
	Happened time.Time `json:"happened_at,omitzero"` // time of the event, if it differs from the time of writing
	By       string    `json:"by"`
	Text     string    `json:"text"`
}

// mostPast is the greatest age of the event of a note.
const mostPast = 10 * 366 * 24 * time.Hour

// NewNote makes a note written now about something that happened then; a zero time means now. It fails on a time that
// is in the future or more than ten years ago.
func NewNote(by, text string, then, now time.Time) (Note, error) {
	n := Note{At: now, By: by, Text: text}
	switch {
	case then.IsZero():
	case then.After(now.Add(time.Minute)):
		return n, fmt.Errorf("%s is in the future; a note is about something that has happened",
			then.UTC().Format(time.RFC3339))
	case now.Sub(then) > mostPast:
		return n, fmt.Errorf("%s is more than ten years ago", then.UTC().Format(time.RFC3339))
	default:
		n.Happened = then
	}
	return n, nil
}

// When is the time of the note's event.
func (n Note) When() time.Time {
	if n.Happened.IsZero() {
		return n.At
	}
	return n.Happened
}

// State is the state of a drive in its life, as people recorded it.
type State string

// The states of a life.
const (
	Ordered   State = "ordered"
	Stock     State = "stock"
	InUse     State = "in-use"
	Spare     State = "spare"
	Retired   State = "retired"
	SentBack  State = "sent-back"
	Returned  State = "returned"
	Destroyed State = "destroyed"
)

// States are all states, in the order of a life.
var States = []State{Ordered, Stock, InUse, Spare, Retired, SentBack, Returned, Destroyed}

// Gone reports whether a drive in this state is no longer present, so that a report of it contradicts the record.
func (s State) Gone() bool { return s == SentBack || s == Destroyed || s == Ordered }

// Day is the format of days.
const Day = "2006-01-02"

// Field is one field of an item, under the name by which people set it.
type Field struct {
	Name    string
	Meaning string
	Get     func(*Item) string
	// set parses a text; an empty text removes the value. Errors say what is expected.
	set func(*Item, string) error
}

// mostText is the greatest length of a text.
const mostText = 200

var currency = regexp.MustCompile(`^[A-Z]{3}$`)
var decimal = regexp.MustCompile(`^[0-9]{1,12}(\.[0-9]{1,4})?$`)
var term = regexp.MustCompile(`^([0-9]{1,3})(y|mo)$`)

// Fields are all fields, in the order in which they are shown.
var Fields = []Field{
	textField(
		"model",
		"the model as it was ordered; what a drive reports about itself is shown instead",
		func(i *Item) *string { return &i.Model },
	),
	{"state", "its age and use: " + stateWords(), func(i *Item) string { return string(i.State) }, setState},
	textField(
		"state_number",
		"number of the return, or of the certificate",
		func(i *Item) *string { return &i.StateNumber },
	),
	dayField("state_day", "day on which it came into that state", func(i *Item) *string { return &i.StateDay }),
	dayField("purchased", "day on which it was bought", func(i *Item) *string { return &i.Purchased }),
	textField("supplier", "who sold it", func(i *Item) *string { return &i.Supplier }),
	textField("order", "number of the order", func(i *Item) *string { return &i.Order }),
	{"price", "price, such as 249.90", func(i *Item) string { return i.Price }, setPrice},
	{"currency", "of the price, such as EUR (ISO 4217)", func(i *Item) string { return i.Currency }, setCurrency},
	{
		"warranty",
		"last day of the warranty, or its length from the purchase, such as 5y or 36mo",
		func(i *Item) string { return i.Warranty },
		setWarranty,
	},
	textField("batch", "what it came with: drives of one batch are siblings", func(i *Item) *string { return &i.Batch }),
	textField("asset", "its tag in the register of assets", func(i *Item) *string { return &i.Asset }),
	textField("contract", "the contract under which it is looked after", func(i *Item) *string { return &i.Contract }),
	{
		"links",
		"addresses of papers, separated by spaces",
		func(i *Item) string { return strings.Join(i.Links, " ") },
		setLinks,
	},
}

func stateWords() string {
	var out []string
	for _, s := range States {
		out = append(out, string(s))
	}
	return strings.Join(out, ", ")
}

// Names are the names of all fields.
func Names() (out []string) {
	for _, f := range Fields {
		out = append(out, f.Name)
	}
	return out
}

// FieldNamed is a field by its name.
func FieldNamed(name string) (Field, bool) {
	i := slices.IndexFunc(Fields, func(f Field) bool { return f.Name == name })
	if i < 0 {
		return Field{}, false
	}
	return Fields[i], true
}

func textField(name, meaning string, of func(*Item) *string) Field {
	return Field{name, meaning, func(i *Item) string { return *of(i) }, func(i *Item, text string) error {
		if len([]rune(text)) > mostText {
			return fmt.Errorf("it is longer than %d letters", mostText)
		}
		*of(i) = strings.Join(strings.Fields(text), " ")
		return nil
	}}
}

func dayField(name, meaning string, of func(*Item) *string) Field {
	return Field{name, meaning, func(i *Item) string { return *of(i) }, func(i *Item, text string) error {
		if text != "" {
			if _, err := time.Parse(Day, text); err != nil {
				return fmt.Errorf("%q is not a day, such as 2026-11-29", text)
			}
		}
		*of(i) = text
		return nil
	}}
}

func setState(i *Item, text string) error {
	if text != "" && !slices.Contains(States, State(text)) {
		return fmt.Errorf("%q is not one of %s", text, stateWords())
	}
	i.State = State(text)
	return nil
}

func setPrice(i *Item, text string) error {
	if text != "" && !decimal.MatchString(text) {
		return fmt.Errorf("%q is not a price, such as 249.90", text)
	}
	i.Price = text
	return nil
}

func setCurrency(i *Item, text string) error {
	text = strings.ToUpper(text)
	if text != "" && !currency.MatchString(text) {
		return fmt.Errorf("%q is not a currency, such as EUR", text)
	}
	i.Currency = text
	return nil
}

func setWarranty(i *Item, text string) error {
	m := term.FindStringSubmatch(text)
	if m == nil {
		if text != "" {
			if _, err := time.Parse(Day, text); err != nil {
				return fmt.Errorf("%q is neither a day nor a duration, such as 2031-11-29 or 5y", text)
			}
		}
		i.Warranty = text
		return nil
	}
	from, err := time.Parse(Day, i.Purchased)
	if err != nil {
		return fmt.Errorf("a length such as %s counts from the purchase, whose day is not known", text)
	}
	n, err := strconv.Atoi(m[1])
	if err != nil {
		return err
	}
	if m[2] == "y" {
		n *= 12
	}
	// A warranty in months ends on the day before the same day of the month; where a month is too short, on its last
	// day.
	end := from.AddDate(0, n, 0)
	if end.Day() != from.Day() {
		end = end.AddDate(0, 0, -end.Day()+1)
	}
	i.Warranty = end.AddDate(0, 0, -1).Format(Day)
	return nil
}

func setLinks(i *Item, text string) error {
	links := strings.Fields(text)
	for _, l := range links {
		if !strings.HasPrefix(l, "https://") && !strings.HasPrefix(l, "http://") || len(l) > 2*mostText {
			return fmt.Errorf("%q is not an address such as https://papers.example/123", l)
		}
	}
	if len(links) > 20 {
		return fmt.Errorf("more than 20 addresses")
	}
	i.Links = nil
	if len(links) > 0 {
		i.Links = links
	}
	return nil
}

// Set sets a field, and gives its old and new value. Spaces around the text are ignored.
func (i *Item) Set(name, text string) (c Change, err error) {
	f, ok := FieldNamed(name)
	if !ok {
		return c, fmt.Errorf("no field %q", name)
	}
	c = Change{Field: name, From: f.Get(i)}
	if err := f.set(i, strings.TrimSpace(text)); err != nil {
		return c, fmt.Errorf("%s: %w", name, err)
	}
	c.To = f.Get(i)
	return c, nil
}

// Change is one field that was changed.
type Change struct{ Field, From, To string }

// SetAll sets fields in their order, since the length of a warranty counts from the purchase; it returns the fields
// that changed. If one is invalid, none is set.
func (i *Item) SetAll(fields map[string]string) (changes []Change, err error) {
	next := *i
	next.Links = slices.Clone(i.Links)
	left := len(fields)
	for _, f := range Fields {
		text, ok := fields[f.Name]
		if !ok {
			continue
		}
		left--
		c, err := next.Set(f.Name, text)
		if err != nil {
			return nil, err
		}
		if c.From != c.To {
			changes = append(changes, c)
		}
	}
	if left > 0 {
		for name := range fields {
			if _, ok := FieldNamed(name); !ok {
				return nil, fmt.Errorf("no field %q", name)
			}
		}
	}
	if next.Price != "" && next.Currency == "" {
		return nil, fmt.Errorf("price: its currency is not said, such as currency=EUR")
	}
	*i = next
	return changes, nil
}

// WarrantyDays is how many days the warranty lasts from a moment on, negative when it has ended; ok is false when
// unknown.
func (i *Item) WarrantyDays(now time.Time) (days int, ok bool) { return daysTo(i.Warranty, now) }

// OwnedDays is the number of days since a drive was bought.
func (i *Item) OwnedDays(now time.Time) (days int, ok bool) {
	d, ok := daysTo(i.Purchased, now)
	return -d, ok
}

func daysTo(day string, now time.Time) (int, bool) {
	at, err := time.Parse(Day, day)
	if err != nil {
		return 0, false
	}
	y, m, d := now.Date()
	return int(at.Sub(time.Date(y, m, d, 0, 0, 0, 0, time.UTC)).Hours() / 24), true
}

// Condition is a condition of a filter: a field, a comparison, and a value.
type Condition struct {
	field, op, text string
	number          float64
}

// numbers are the fields that can be compared by size.
var numbers = map[string]func(*Item, time.Time) (float64, bool){
	"warranty_days": func(i *Item, now time.Time) (float64, bool) { d, ok := i.WarrantyDays(now); return float64(d), ok },
	"owned_days":    func(i *Item, now time.Time) (float64, bool) { d, ok := i.OwnedDays(now); return float64(d), ok },
	"price": func(i *Item, _ time.Time) (float64, bool) {
		p, err := strconv.ParseFloat(i.Price, 64)
		return p, err == nil
	},
}

// Comparable are the names that conditions can use.
func Comparable() []string {
	out := append([]string{"warranty_days", "owned_days"}, Names()...)
	return slices.DeleteFunc(out, func(n string) bool { return n == "links" })
}

var condition = regexp.MustCompile(`^\s*([a-z_]+)\s*(>=|<=|!=|=|>|<)\s*(.*?)\s*$`)

// ParseCondition reads one condition, such as "warranty_days<90" or "batch=B-17"; ours is false when it names no field
// of the inventory.
func ParseCondition(text string) (c Condition, ours bool, err error) {
	m := condition.FindStringSubmatch(text)
	if m == nil || !slices.Contains(Comparable(), m[1]) {
		return c, false, nil
	}
	c = Condition{field: m[1], op: m[2], text: m[3]}
	if numbers[c.field] != nil {
		if c.number, err = strconv.ParseFloat(c.text, 64); err != nil {
			return c, true, fmt.Errorf("%s is compared with a number, not with %q", c.field, c.text)
		}
		return c, true, nil
	}
	if f, _ := FieldNamed(c.field); strings.ContainsAny(c.op, "<>") && !strings.Contains(f.Meaning, "day") {
		return c, true, fmt.Errorf("%s can be asked for with = or != only", c.field)
	}
	return c, true, nil
}

// Holds reports whether an item meets the condition; an item without the field meets only !=.
func (c Condition) Holds(i *Item, now time.Time) bool {
	if number := numbers[c.field]; number != nil {
		v, ok := number(i, now)
		return ok && compare(v, c.op, c.number)
	}
	f, _ := FieldNamed(c.field)
	v := f.Get(i)
	if c.op == "!=" {
		return !strings.EqualFold(v, c.text)
	}
	if v == "" {
		return c.text == "" && c.op == "="
	}
	if c.op == "=" {
		return strings.EqualFold(v, c.text)
	}
	return compare(strings.Compare(v, c.text), c.op, 0)
}

func compare[N int | float64](a N, op string, b N) bool {
	switch op {
	case ">":
		return a > b
	case "<":
		return a < b
	case ">=":
		return a >= b
	case "<=":
		return a <= b
	case "=":
		return a == b
	}
	return a != b
}
