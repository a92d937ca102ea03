package api

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"sync"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// Metrics are the values of a reading by the names of their metrics. They are the largest part of a report, so a name
// that came before needs no memory of its own.
type Metrics map[string]float64

// UnmarshalJSONFrom adds the members of an object (RFC 8259, clause 4), whose values must be numbers that a float64 can
// hold. null makes the map nil.
func (m *Metrics) UnmarshalJSONFrom(from *jsontext.Decoder) error {
	switch kind := from.PeekKind(); kind {
	case 'n':
		*m = nil
		return from.SkipValue()
	case '{':
	default:
		return &json.SemanticError{JSONKind: kind, Err: errors.New("they are not an object of names and numbers")}
	}
	if _, err := from.ReadToken(); err != nil {
		return err
	}
	if *m == nil {
		*m = make(Metrics, 32)
	}
	for from.PeekKind() != '}' {
		text, err := from.ReadValue()
		if err != nil {
			return err
		}
		name, err := known.of(text)
		if err != nil {
			return err
		}
		if text, err = from.ReadValue(); err != nil {
			return err
		}
		if kind := text.Kind(); kind != '0' {
			return &json.SemanticError{JSONKind: kind, Err: fmt.Errorf("%s is not a number", name)}
		}
		if (*m)[name], err = strconv.ParseFloat(string(text), 64); err != nil {
			return &json.SemanticError{JSONKind: '0', Err: fmt.Errorf("%s is too large", name)}
		}
	}
	_, err := from.ReadToken()
	return err
}

// UnmarshalJSON does the same for encoding/json, which would read null as 0: a count that is not known is not 0.
func (m *Metrics) UnmarshalJSON(text []byte) error {
	err := json.Unmarshal(text, m)
	var meaning *json.SemanticError
	if errors.As(err, &meaning) && meaning.Err != nil {
		return fmt.Errorf("metrics: %w", meaning.Err)
	}
	return err
}

// names are strings that came before.
type names struct {
	mu   sync.RWMutex // guards what follows
	seen map[string]string
}

var known = names{seen: map[string]string{}}

// of gives the string of a JSON text. It keeps the first 1,000 different ones, more than there are metrics.
func (n *names) of(text jsontext.Value) (string, error) {
	if bytes.IndexByte(text, '\\') >= 0 {
		name, err := jsontext.AppendUnquote(nil, text)
		return string(name), err
	}
	text = text[1 : len(text)-1]
	n.mu.RLock()
	s, ok := n.seen[string(text)]
	n.mu.RUnlock()
	if ok {
		return s, nil
	}
	const most = 1000
	s = string(text)
	n.mu.Lock()
	defer n.mu.Unlock()
	if len(n.seen) < most {
		n.seen[s] = s
	}
	return s, nil
}
