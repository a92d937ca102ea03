package bounds

import (
	"bytes"
	"fmt"
	"math/bits"
	"strings"
	"sync"

	"github.com/go-json-experiment/json/jsontext"
)

// shape is what a JSON value must have, from its schema.
type shape struct {
	required []string       // names of the fields that it must have
	bit      map[string]int // their numbers
	fields   map[string]*shape
	lists    map[string]bool // the fields that are lists
	elem     *shape          // of the entries of a list, or the values of an object with any names
	needs    bool            // whether it or anything in it must have a field
}

var shapes sync.Map // by the name of a schema

func shapeOf(name string) *shape {
	if s, ok := shapes.Load(name); ok {
		return s.(*shape)
	}
	d := load()
	s := d.shape(d.Components.Schemas[name], map[*schema]*shape{})
	shapes.Store(name, s)
	return s
}

func (d *document) shape(of *schema, made map[*schema]*shape) *shape {
	of = d.resolve(of)
	if s := made[of]; s != nil {
		return s
	}
	if len(of.Required) > 64 {
		panic("more required fields than fit into a word") // a test reads all of the description
	}
	s := &shape{required: of.Required, bit: map[string]int{}, fields: map[string]*shape{}, lists: map[string]bool{}}
	made[of] = s
	for i, name := range of.Required {
		s.bit[name] = i
	}
	s.needs = len(s.required) > 0
	for name, f := range of.Properties {
		if x := d.shape(f, made); x.needs {
			s.fields[name], s.needs = x, true
		}
		s.lists[name] = d.resolve(f).Type == "array"
	}
	for _, of := range []*schema{of.Items, of.Additional} {
		if of == nil {
			continue
		}
		if x := d.shape(of, made); x.needs {
			s.elem, s.needs = x, true
		}
	}
	return s
}

// Missing gives the first field that a JSON text lacks although the API's description requires it, as a JSON pointer
// (RFC 6901); it is empty if nothing is missing. A null is missing as well, except for a list: programs in Go write
// an empty list as null. This is checked in the text, because Go decodes a missing number as 0 and a missing list as an
// empty one. schema is the name of a schema in the API's description.
func Missing(text []byte, schema string) (pointer string, err error) {
	// Duplicate names and invalid UTF-8 are refused when the text is decoded.
	return shapeOf(schema).missing(jsontext.NewDecoder(bytes.NewBuffer(text), jsontext.AllowDuplicateNames(true),
		jsontext.AllowInvalidUTF8(true)))
}

func (s *shape) missing(in *jsontext.Decoder) (pointer string, err error) {
	kind := in.PeekKind()
	if s == nil || !s.needs || kind != '{' && kind != '[' {
		return "", in.SkipValue()
	}
	if _, err := in.ReadToken(); err != nil {
		return "", err
	}
	if kind == '[' {
		return s.missingEntry(in)
	}
	return s.missingField(in)
}

// missingEntry reads the entries and the end of a list.
func (s *shape) missingEntry(in *jsontext.Decoder) (pointer string, err error) {
	for in.PeekKind() != ']' {
		if s.elem != nil && in.PeekKind() == 'n' { // a null entry
			_, err = in.ReadToken()
			return string(in.StackPointer()), err
		}
		if pointer, err := s.elem.missing(in); err != nil || pointer != "" {
			return pointer, err
		}
	}
	_, err = in.ReadToken()
	return "", err
}

// missingField reads the fields and the end of an object.
func (s *shape) missingField(in *jsontext.Decoder) (pointer string, err error) {
	var has uint64
	for in.PeekKind() != '}' {
		name, err := in.ReadValue()
		if err != nil {
			return "", err
		}
		// A name with an escape counts as another: then the field is missing.
		name = bytes.Trim(name, `"`)
		bit, required := s.bit[string(name)]
		list, x := s.lists[string(name)], s.elem
		if f := s.fields[string(name)]; f != nil {
			x = f
		}
		if required && (list || in.PeekKind() != 'n') {
			has |= 1 << bit
		}
		if pointer, err := x.missing(in); err != nil || pointer != "" {
			return pointer, err
		}
	}
	if _, err := in.ReadToken(); err != nil {
		return "", err
	}
	if bits.OnesCount64(has) == len(s.required) {
		return "", nil
	}
	name := s.required[bits.TrailingZeros64(^has)]
	return fmt.Sprintf("%s/%s", strings.TrimSuffix(string(in.StackPointer()), "/"), name), nil
}
