// Package bounds checks what comes over the network against the bounds that openapi.yaml gives: the length of texts and
// lists, the number of properties, and the size of numbers. A report that keeps to them costs a bounded amount of
// memory and time, whoever sends it.
package bounds

import (
	"fmt"
	"reflect"
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
	numbers bool // numbers are checked as well
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
	d := *load()
	value := reflect.ValueOf(v)
	// Errors about a number name it in people's words.
	_, d.numbers = v.(api.Report)
	name := value.Type().Name()
	return d.check(&path{name: name}, d.Components.Schemas[name], value)
}

// path is where a value is. It becomes a text only if the value is out of its bounds.
type path struct {
	in    *path
	name  string
	index int // in a list, if name is empty
}

// String is the path such as Report.drives[3].reading.
func (p *path) String() string {
	switch {
	case p.in == nil:
		return p.name
	case p.name == "":
		return p.in.String() + "[" + strconv.Itoa(p.index) + "]"
	}
	return p.in.String() + "." + p.name
}

// field is a field of a structure that has a name in JSON.
type field struct {
	index int
	name  string
}

// fields has the fields of each structure, by its reflect.Type.
var fields sync.Map

func fieldsOf(t reflect.Type) []field {
	if f, ok := fields.Load(t); ok {
		return f.([]field)
	}
	var out []field
	for i := range t.NumField() {
		if name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ","); name != "" && name != "-" {
			out = append(out, field{i, name})
		}
	}
	fields.Store(t, out)
	return out
}

func (d *document) resolve(s *schema) *schema {
	for range 10 {
		if s == nil || s.Ref == "" {
			break
		}
		s = d.Components.Schemas[s.Ref[strings.LastIndex(s.Ref, "/")+1:]]
	}
	if s == nil {
		return &schema{}
	}
	return s
}

func most(own, usual *int) int {
	if own != nil {
		return *own
	}
	return *usual
}

func (d *document) check(at *path, s *schema, v reflect.Value) error {
	s = d.resolve(s)
	usual := &d.Components.Defaults
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			return nil
		}
		return d.check(at, s, v.Elem())
	case reflect.String:
		if n, m := v.Len(), most(s.MaxLength, usual.MaxLength); n > m && utf8.RuneCountInString(v.String()) > m {
			return fmt.Errorf("%s has %d characters; at most %d are taken", at, utf8.RuneCountInString(v.String()), m)
		}
	case reflect.Slice, reflect.Array:
		return d.checkList(at, s, v)
	case reflect.Map:
		if m := most(s.MaxProperties, usual.MaxProperties); v.Len() > m {
			return fmt.Errorf("%s has %d entries; at most %d are taken", at, v.Len(), m)
		}
		return d.checkMap(at, s, v)
	case reflect.Struct:
		return d.checkStruct(at, s, v)
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		least := s.Minimum
		if least == nil {
			least = usual.Minimum
		}
		return d.within(at, float64(v.Int()), least, s.Maximum)
	case reflect.Float32, reflect.Float64:
		return d.within(at, v.Float(), s.Minimum, s.Maximum)
	}
	return nil
}

func (d *document) within(at *path, x float64, least, most *float64) error {
	switch {
	case d.inside(x, least, most):
		return nil
	case least != nil && x < *least:
		return fmt.Errorf("%s is %g; at least %g is taken", at, x, *least)
	}
	return fmt.Errorf("%s is %g; at most %g is taken", at, x, *most)
}

// inside reports whether a number needs no error: it is within its bounds, or numbers are not checked.
func (d *document) inside(x float64, least, most *float64) bool {
	return !d.numbers || !(least != nil && x < *least) && !(most != nil && x > *most)
}

func (d *document) checkList(at *path, s *schema, v reflect.Value) error {
	if v.Type().Elem().Kind() == reflect.Uint8 {
		if m := most(s.MaxLength, d.Components.Defaults.MaxLength); v.Len() > m {
			return fmt.Errorf("%s has %d bytes; at most %d are taken", at, v.Len(), m)
		}
		return nil
	}
	if m := most(s.MaxItems, d.Components.Defaults.MaxItems); v.Len() > m {
		return fmt.Errorf("%s has %d entries; at most %d are taken", at, v.Len(), m)
	}
	for i := range v.Len() {
		if err := d.check(&path{in: at, index: i}, s.Items, v.Index(i)); err != nil {
			return err
		}
	}
	return nil
}

func (d *document) checkMap(at *path, s *schema, v reflect.Value) error {
	check := func(name string, value reflect.Value) error {
		if len(name) > *d.Components.Defaults.MaxLength {
			return fmt.Errorf("%s has a name of %d characters", at, len(name))
		}
		return d.check(&path{in: at, name: name}, s.Additional, value)
	}
	if numbers, ok := v.Interface().(map[string]float64); ok { // the metrics of each reading: the largest part of a report
		each := d.resolve(s.Additional)
		for name, x := range numbers {
			if len(name) <= *d.Components.Defaults.MaxLength && d.inside(x, each.Minimum, each.Maximum) {
				continue
			}
			if err := check(name, reflect.ValueOf(x)); err != nil {
				return err
			}
		}
		return nil
	}
	for it := v.MapRange(); it.Next(); {
		if err := check(fmt.Sprint(it.Key()), it.Value()); err != nil {
			return err
		}
	}
	return nil
}

var timeType = reflect.TypeFor[time.Time]()

func (d *document) checkStruct(at *path, s *schema, v reflect.Value) error {
	if v.Type() == timeType {
		t := v.Interface().(time.Time)
		// A reading of another time is left out by itself; it must not cost the whole report.
		ofReading := at.name == "at" && at.in != nil && at.in.name == "reading"
		if !t.IsZero() && !ofReading && (t.Before(earliest) || t.After(latest)) {
			return fmt.Errorf("%s is %s, which cannot be", at, t.Format(time.RFC3339))
		}
		return nil
	}
	for _, f := range fieldsOf(v.Type()) {
		if err := d.check(&path{in: at, name: f.name}, s.Properties[f.name], v.Field(f.index)); err != nil {
			return err
		}
	}
	return nil
}
