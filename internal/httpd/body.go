package httpd

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/labstack/echo/v5"

	"lantern/internal/api"
	"lantern/internal/bounds"
	"lantern/internal/harmless"
	"lantern/internal/service/problem"
)

// take reads a JSON body. Unknown fields are errors, because a mistyped field must not be ignored.
func take[T any](c *echo.Context, limit int64) (v T, err error) {
	text, err := body(c, limit)
	if err != nil {
		return v, err
	}
	return decode[T](c, text)
}

// body reads the whole body of a request. One that was cut off may be sent again, one that is too long not.
func body(c *echo.Context, limit int64) ([]byte, error) {
	r := c.Request()
	text := bytes.NewBuffer(make([]byte, 0, min(max(r.ContentLength, 0), limit, mostAtOnce)+bytes.MinRead))
	_, err := text.ReadFrom(http.MaxBytesReader(c.Response(), r.Body, limit))
	var long *http.MaxBytesError
	switch {
	case errors.As(err, &long):
		return nil, problem.Forever(422, "bad-body", fmt.Sprintf("It has more than %d bytes.", limit),
			"The request could not be read.")
	case err != nil:
		return nil, problem.New(400, "bad-body", "Send it again.", "The request was cut off.")
	}
	return text.Bytes(), nil
}

// mostAtOnce limits the memory that is taken before a body has come.
const mostAtOnce = 1 << 20

// decode reads the JSON text of a request's body.
func decode[T any](c *echo.Context, text []byte) (v T, err error) {
	if len(text) == 0 && c.Request().ContentLength == 0 {
		return v, nil
	}
	if err := json.Unmarshal(text, &v, json.RejectUnknownMembers(true)); err != nil {
		return v, problem.Forever(422, "bad-body", wrongJSON(err), "The request could not be read.")
	}
	if err := bounds.Check(v); err != nil {
		return v, problem.Forever(422, "bad-body", err.Error()+".", "The request has a value out of range.")
	}
	if !harmless.Plain(text) {
		// Texts of people may have several lines; those of devices and agents may not.
		harmless.Scrub(&v, !strings.HasPrefix(c.Request().URL.Path, base+"/agent/"))
	}
	return v, nil
}

// wrongJSON says what is wrong with a JSON text, and where, as a JSON pointer (RFC 6901).
func wrongJSON(err error) string {
	var syntax *jsontext.SyntacticError
	var meaning *json.SemanticError
	switch {
	case errors.Is(err, json.ErrUnknownName) && errors.As(err, &meaning):
		return fmt.Sprintf("There is no field %s in this request.", meaning.JSONPointer)
	case errors.As(err, &meaning):
		at := cmp.Or(string(meaning.JSONPointer), "the whole request")
		if meaning.GoType == reflect.TypeFor[*api.Metrics]() || meaning.GoType == reflect.TypeFor[api.Metrics]() {
			return fmt.Sprintf("%s: %v.", at, meaning.Err) // our own words
		}
		is := kindWords(meaning.JSONKind)
		if n := len(meaning.JSONValue); meaning.Err != nil && n > 0 && n < 60 {
			is = string(meaning.JSONValue)
		}
		return fmt.Sprintf("%s is %s; %s is needed.", at, is, typeWords(meaning.GoType))
	case errors.Is(err, io.ErrUnexpectedEOF):
		return "The JSON text ends too early."
	case errors.As(err, &syntax):
		return fmt.Sprintf("It is not valid JSON at byte %d: %v.", syntax.ByteOffset, syntax.Err)
	}
	return err.Error() + "."
}

func kindWords(k jsontext.Kind) string {
	switch k {
	case '"':
		return "a text"
	case '0':
		return "a number"
	case 't', 'f':
		return "true or false"
	case '{':
		return "an object"
	case '[':
		return "a list"
	}
	return "null"
}

func typeWords(t reflect.Type) string {
	if t == nil {
		return "another kind of value"
	}
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch k := t.Kind(); {
	case t == reflect.TypeFor[time.Time]():
		return "a time such as 2026-11-03T06:30:00Z"
	case k == reflect.String:
		return "a text"
	case k == reflect.Bool:
		return "true or false"
	case k >= reflect.Int && k <= reflect.Uint64:
		return "a whole number in the range of its field"
	case k == reflect.Float64 || k == reflect.Float32:
		return "a number"
	case k == reflect.Slice && t.Elem().Kind() == reflect.Uint8:
		return "a text in base64"
	case k == reflect.Slice:
		return "a list"
	case k == reflect.Map || k == reflect.Struct:
		return "an object"
	}
	return "another kind of value"
}
