package httpd

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"strings"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/klauspost/compress/gzip"
	"github.com/labstack/echo/v5"
)

// Answers of at least leastPacked bytes are compressed once, and the newest mostPacked of them kept: many people look
// at the same lists.
const (
	leastPacked = 1024
	mostPacked  = 128
)

// packedAnswers holds compressed answers by their tag.
type packedAnswers struct {
	kept *lru.Cache[string, []byte]
}

func newPackedAnswers() *packedAnswers {
	kept, err := lru.New[string, []byte](mostPacked)
	if err != nil {
		panic(err) // the size is not positive
	}
	return &packedAnswers{kept}
}

// of compresses an answer with gzip (RFC 1952), or gives the kept result.
func (p *packedAnswers) of(tag string, body []byte) ([]byte, error) {
	if b, ok := p.kept.Get(tag); ok {
		return b, nil
	}
	var out bytes.Buffer
	w, err := gzip.NewWriterLevel(&out, gzip.BestSpeed)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(body); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	p.kept.Add(tag, out.Bytes())
	return out.Bytes(), nil
}

// tagged adds an ETag (RFC 9110, 8.8.3) to answers in JSON. If the request has the same tag in If-None-Match, the
// answer is 304 without a body. The tag is a hash of the answer, so it cannot be older than it.
func tagged(next echo.HandlerFunc) echo.HandlerFunc {
	packed := newPackedAnswers()
	return func(c *echo.Context) error {
		if c.Request().Method != http.MethodGet || !strings.HasPrefix(c.Request().URL.Path, base) {
			return next(c)
		}
		out := c.Response()
		t := &tagger{ResponseWriter: out, wanted: c.Request().Header.Get("If-None-Match")}
		if takes(c.Request(), "gzip") {
			t.packed = packed
		}
		c.SetResponse(t)
		err := next(c)
		c.SetResponse(out)
		if err != nil {
			return err // the buffered answer is dropped
		}
		return t.end()
	}
}

// tagger buffers an answer in JSON; others pass through.
type tagger struct {
	http.ResponseWriter
	wanted string
	packed *packedAnswers // nil if the client takes none
	begun  bool
	holds  bool
	body   bytes.Buffer
}

// WriteHeader starts the answer.
func (t *tagger) WriteHeader(status int) {
	if t.begun {
		return
	}
	t.begun = true
	kind, _, _ := strings.Cut(t.Header().Get("Content-Type"), ";")
	if t.holds = status == http.StatusOK && kind == "application/json"; !t.holds {
		t.ResponseWriter.WriteHeader(status)
	}
}

// Write adds to the answer.
func (t *tagger) Write(b []byte) (int, error) {
	t.WriteHeader(http.StatusOK)
	if t.holds {
		return t.body.Write(b)
	}
	return t.ResponseWriter.Write(b)
}

// Unwrap returns the writer below, for http.ResponseController.
func (t *tagger) Unwrap() http.ResponseWriter { return t.ResponseWriter }

// end sends the buffered answer, or 304.
func (t *tagger) end() error {
	if !t.holds {
		return nil
	}
	sum := sha256.Sum256(t.body.Bytes())
	tag := `"` + hex.EncodeToString(sum[:12]) + `"`
	t.Header().Set("ETag", tag)
	for given := range strings.SplitSeq(t.wanted, ",") {
		// A proxy that compresses makes the tag weak.
		if given = strings.TrimPrefix(strings.TrimSpace(given), "W/"); given == tag || given == "*" {
			t.Header().Del("Content-Type")
			t.ResponseWriter.WriteHeader(http.StatusNotModified)
			return nil
		}
	}
	body := t.body.Bytes()
	t.Header().Add("Vary", "Accept-Encoding")
	if t.packed != nil && len(body) >= leastPacked {
		packed, err := t.packed.of(tag, body)
		if err != nil {
			return err
		}
		t.Header().Set("Content-Encoding", "gzip")
		t.Header().Set("ETag", "W/"+tag) // the same tag names the answer without compression
		body = packed
	}
	t.ResponseWriter.WriteHeader(http.StatusOK)
	_, err := t.ResponseWriter.Write(body)
	return err
}
