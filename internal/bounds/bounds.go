// Package bounds checks what comes over the network against the bounds that openapi.yaml gives: the length of texts and
// lists, the number of properties, and the size of numbers. A report that keeps to them costs a bounded amount of
// memory and time, whoever sends it.
package bounds

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"lantern/internal/api"
)

// schema is the used part of a JSON schema (draft 2020-12, clause 6).
type schema struct {
	Ref           string             `yaml:"$ref"`
	Type          string             `yaml:"type"`
	Properties    map[string]*schema `yaml:"properties"`
	Required      []string           `yaml:"required"`
	Items         *schema            `yaml:"items"`
	Additional    *schema            `yaml:"-"`
	MaxLength     *int               `yaml:"maxLength"`
	MaxItems      *int               `yaml:"maxItems"`
	MaxProperties *int               `yaml:"maxProperties"`
	Minimum       *float64           `yaml:"minimum"`
	Maximum       *float64           `yaml:"maximum"`
}

// UnmarshalYAML reads a schema; additionalProperties may be a schema or a boolean.
func (s *schema) UnmarshalYAML(n *yaml.Node) error {
	type plain schema
	if err := n.Decode((*plain)(s)); err != nil {
		return err
	}
	var more struct {
		Additional yaml.Node `yaml:"additionalProperties"`
	}
	if err := n.Decode(&more); err != nil || more.Additional.Kind != yaml.MappingNode {
		return err
	}
	s.Additional = &schema{}
	return more.Additional.Decode(s.Additional)
}

type document struct {
	Components struct {
		Defaults schema             `yaml:"x-default-bounds"`
		Schemas  map[string]*schema `yaml:"schemas"`
	} `yaml:"components"`
}

var load = sync.OnceValue(func() *document {
	var d document
	if err := yaml.Unmarshal(api.Document, &d); err != nil {
		panic("the API description cannot be read: " + err.Error()) // it is part of the program, and a test reads it
	}
	return &d
})

// Years outside of which no time of a request can be.
var earliest, latest = time.Date(1970, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(2200, 1, 1, 0, 0, 0, 0, time.UTC)

// Check finds the first value in v, whose type is named like its schema, that is out of its bounds. Values that the
// description does not name have the default bounds.
func Check(v any) error {
	value := reflect.ValueOf(v)
	name := value.Type().Name()
	// Numbers are checked in reports only: for a request of a person the service has errors that say more.
	_, numbers := v.(api.Report)
	n := nodeOf(what{value.Type(), load().Components.Schemas[name], numbers, false})
	if f := n.check(value); f != nil {
		return f.error(name)
	}
	return nil
}

// fault is a value out of its bounds. says has a verb for the value; steps lead to the value, the last one first.
type fault struct {
	steps []string
	says  string
}

func faultf(format string, args ...any) *fault { return &fault{says: fmt.Sprintf(format, args...)} }

// in adds a step before the others.
func (f *fault) in(step string) *fault {
	f.steps = append(f.steps, step)
	return f
}

// error names the value such as Report.drives[3].reading.
func (f *fault) error(name string) error {
	slices.Reverse(f.steps)
	return errors.New(name + strings.Join(f.steps, "") + " " + f.says)
}

// what is that a node checks: values of a type by a schema.
type what struct {
	of      reflect.Type
	by      *schema
	numbers bool // numbers are checked as well
	// anyTime is true if its field "at" can have any time: a reading of another time is left out by itself, and must not
	// cost the whole report.
	anyTime bool
}

// node checks values of one type by one schema.
type node struct {
	what
	most   int   // of characters, bytes or entries
	elem   *node // of lists, maps and pointers
	fields []field
}

// field is a field of a structure that has a name in JSON.
type field struct {
	index int
	step  string
	node  *node
}

// nodes has the nodes that were made.
var nodes sync.Map

func nodeOf(w what) *node {
	w.by = load().resolve(w.by)
	if n, ok := nodes.Load(w); ok {
		return n.(*node)
	}
	making.Lock()
	defer making.Unlock()
	made := map[what]*node{}
	n := load().node(w, made)
	for w, x := range made {
		nodes.Store(w, x)
	}
	return n
}

// making is held while nodes are made.
var making sync.Mutex

var (
	timeType    = reflect.TypeFor[time.Time]()
	metricsType = reflect.TypeFor[api.Metrics]()
)

// node makes a node, and those within it. made are those that are being made, because types can contain themselves.
func (d *document) node(w what, made map[what]*node) *node {
	w.by = d.resolve(w.by)
	if n := made[w]; n != nil {
		return n
	}
	n, usual := &node{what: w}, &d.Components.Defaults
	made[w] = n
	within := func(t reflect.Type, s *schema) *node { return d.node(what{of: t, by: s, numbers: w.numbers}, made) }
	switch w.of.Kind() {
	case reflect.Pointer:
		n.elem = within(w.of.Elem(), w.by)
	case reflect.String:
		n.most = most(w.by.MaxLength, usual.MaxLength)
	case reflect.Slice, reflect.Array:
		if w.of.Elem().Kind() == reflect.Uint8 {
			n.most = most(w.by.MaxLength, usual.MaxLength)
			break
		}
		n.most, n.elem = most(w.by.MaxItems, usual.MaxItems), within(w.of.Elem(), w.by.Items)
	case reflect.Map:
		n.most, n.elem = most(w.by.MaxProperties, usual.MaxProperties), within(w.of.Elem(), w.by.Additional)
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		if w.by.Minimum == nil {
			bounded := *w.by
			bounded.Minimum, n.by = usual.Minimum, &bounded
		}
	case reflect.Struct:
		for i := range w.of.NumField() {
			f := w.of.Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			if name == "" || name == "-" || w.of == timeType || w.anyTime && name == "at" {
				continue
			}
			n.fields = append(n.fields, field{i, "." + name, d.node(
				what{f.Type, w.by.Properties[name], w.numbers, name == "reading"}, made)})
		}
	}
	return n
}

func (d *document) resolve(s *schema) *schema {
	for range 10 {
		if s == nil || s.Ref == "" {
			break
		}
		s = d.Components.Schemas[s.Ref[strings.LastIndex(s.Ref, "/")+1:]]
	}
	if s == nil {
		return &unbounded
	}
	return s
}

// unbounded is the schema of values that the description does not name.
var unbounded schema

func most(own, usual *int) int {
	if own != nil {
		return *own
	}
	return *usual
}

// check finds the first value that is out of its bounds.
func (n *node) check(v reflect.Value) *fault {
	switch v.Kind() {
	case reflect.Pointer:
		if v.IsNil() {
			return nil
		}
		return n.elem.check(v.Elem())
	case reflect.Interface:
		if v.IsNil() {
			return nil
		}
		return nodeOf(what{v.Elem().Type(), n.by, n.numbers, false}).check(v.Elem())
	case reflect.String:
		if v.Len() > n.most && utf8.RuneCountInString(v.String()) > n.most {
			return faultf("has %d characters; at most %d are taken", utf8.RuneCountInString(v.String()), n.most)
		}
	case reflect.Slice, reflect.Array:
		return n.checkList(v)
	case reflect.Map:
		return n.checkMap(v)
	case reflect.Struct:
		return n.checkStruct(v)
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		return n.within(float64(v.Int()))
	case reflect.Float32, reflect.Float64:
		return n.within(v.Float())
	}
	return nil
}

// within checks a number.
func (n *node) within(x float64) *fault {
	switch least, most := n.by.Minimum, n.by.Maximum; {
	case !n.numbers:
	case least != nil && x < *least:
		return faultf("is %g; at least %g is taken", x, *least)
	case most != nil && x > *most:
		return faultf("is %g; at most %g is taken", x, *most)
	}
	return nil
}

func (n *node) checkList(v reflect.Value) *fault {
	if n.elem == nil {
		if v.Len() > n.most {
			return faultf("has %d bytes; at most %d are taken", v.Len(), n.most)
		}
		return nil
	}
	if v.Len() > n.most {
		return faultf("has %d entries; at most %d are taken", v.Len(), n.most)
	}
	for i := range v.Len() {
		if f := n.elem.check(v.Index(i)); f != nil {
			return f.in("[" + strconv.Itoa(i) + "]")
		}
	}
	return nil
}

func (n *node) checkMap(v reflect.Value) *fault {
	if v.Len() > n.most {
		return faultf("has %d entries; at most %d are taken", v.Len(), n.most)
	}
	longest := *load().Components.Defaults.MaxLength
	name := func(s string) *fault {
		if len(s) > longest {
			return faultf("has a name of %d characters", len(s))
		}
		return nil
	}
	if n.of == metricsType { // the largest part of a report
		for s, x := range v.Interface().(api.Metrics) {
			if f := name(s); f != nil {
				return f
			}
			if f := n.elem.within(x); f != nil {
				return f.in("." + s)
			}
		}
		return nil
	}
	for it := v.MapRange(); it.Next(); {
		s := fmt.Sprint(it.Key())
		if f := name(s); f != nil {
			return f
		}
		if f := n.elem.check(it.Value()); f != nil {
			return f.in("." + s)
		}
	}
	return nil
}

func (n *node) checkStruct(v reflect.Value) *fault {
	if n.of == timeType {
		t := v.Interface().(time.Time)
		if !t.IsZero() && (t.Before(earliest) || t.After(latest)) {
			return faultf("is %s, which cannot be", t.Format(time.RFC3339))
		}
		return nil
	}
	for _, f := range n.fields {
		if fault := f.node.check(v.Field(f.index)); fault != nil {
			return fault.in(f.step)
		}
	}
	return nil
}
