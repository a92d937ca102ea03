package httpd

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/labstack/echo/v5"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/service/problem"
)

// taken reads a body as the service does, and gives the problem in words.
func taken[T any](t *testing.T, body io.Reader, limit int64) (v T, says string) {
	t.Helper()
	r := httptest.NewRequest(http.MethodPost, "/api/v1/agent/reports", body)
	v, err := take[T](echo.New().NewContext(r, httptest.NewRecorder()), limit)
	if err != nil {
		says = problem.As(err).Do
	}
	return v, says
}

// TestWrongBodies: the error of a body names the mistake and its place, in words for people.
func TestWrongBodies(t *testing.T) {
	for body, says := range map[string]string{
		`{"bay":"a/b/1","seconds":60}`: "",
		``:                             "",
		`{"bay":"a/b/1","secs":60}`:    "There is no field /secs in this request.",
		`{"bay":"a/b/1","Seconds":60}`: "There is no field /Seconds in this request.",
		`{"bay":7}`:                    "/bay is a number; a text is needed.",
		`{"seconds":"60"}`:             "/seconds is a text; a whole number in the range of its field is needed.",
		`{"seconds":1.5}`:              "/seconds is 1.5; a whole number in the range of its field is needed.",
		`{"seconds":1e99}`:             "/seconds is 1e99; a whole number in the range of its field is needed.",
		`[]`:                           "the whole request is a list; an object is needed.",
		`"x"`:                          "the whole request is a text; an object is needed.",
		`{"bay":`:                      "The JSON text ends too early.",
		`{"bay":"a","bay":"b"}`:        "duplicate",
		`{"bay":"a"} {}`:               "It is not valid JSON at byte 12",
		`{bay:"a"}`:                    "It is not valid JSON at byte 1",
		"{\"bay\":\"\xff\"}":           "It is not valid JSON at byte",
		`{"bay":"` + strings.Repeat("x", 99) + `"}`: "It has more than 64 bytes.",
	} {
		_, got := taken[api.LightOn](t, strings.NewReader(body), 64)
		if says == "" {
			require.Empty(t, got, body)
			continue
		}
		require.Contains(t, got, says, body)
		require.NotContains(t, got, "Go ", "words for people")
		require.Equal(t, 1, strings.Count(got+"#", ".#"), got)
	}
	for body, says := range map[string]string{
		`{"drives":[{"reading":{"metrics":{"pending_sectors":null}}}]}`: "/drives/0/reading/metrics: pending_sectors is not a number.",
		`{"drives":[{"reading":{"metrics":[]}}]}`:                       "/drives/0/reading/metrics: they are not an object",
		`{"drives":[{},{"bay":"7"}]}`:                                   "/drives/1/bay is a text; a whole number",
		`{"at":"yesterday"}`:                                            "/at is a text; a time such as 2026-11-03T06:30:00Z is needed.",
		`{"drives":{}}`:                                                 "/drives is an object; a list is needed.",
	} {
		_, got := taken[api.Report](t, strings.NewReader(body), 1<<20)
		require.Contains(t, got, says, body)
		require.NotContains(t, got, "Go ", body)
	}
	r, says := taken[api.Report](t, strings.NewReader(`{"drives":[{"reading":{"metrics":{"pending_sectors":8}}}]}`), 1<<20)
	require.Empty(t, says)
	require.Equal(t, api.Metrics{"pending_sectors": 8}, r.Drives[0].Reading.Metrics)
	// A body that is cut off may be sent again.
	_, says = taken[api.Report](t, io.MultiReader(strings.NewReader(`{"drives":[`), broken{}), 1<<20)
	require.Equal(t, "Send it again.", says)
}

// broken is a connection that ends.
type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, io.ErrClosedPipe }
