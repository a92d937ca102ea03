package httpd

import (
	"encoding/json"
	"iter"
	"lantern/internal/api"
	"lantern/internal/service/problem"
	"lantern/internal/service/readings"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"
)

// calls answers the operations of the API. Each part answers those of one subject.
type calls struct {
	accountCalls
	fleetCalls
	hostsCalls
	agentsCalls
	baysCalls
	labCalls
	flagsCalls
	inventoryCalls
	swapCalls
	testCalls
}

var _ api.ServerInterface = calls{}

func newCalls(s *Server) calls {
	return calls{
		accountCalls{s},
		fleetCalls{s},
		hostsCalls{s},
		agentsCalls{s},
		baysCalls{s},
		labCalls{s},
		flagsCalls{s},
		inventoryCalls{s},
		swapCalls{s},
		testCalls{s},
	}
}

type (
	accountCalls   struct{ *Server }
	fleetCalls     struct{ *Server }
	hostsCalls     struct{ *Server }
	agentsCalls    struct{ *Server }
	baysCalls      struct{ *Server }
	labCalls       struct{ *Server }
	flagsCalls     struct{ *Server }
	inventoryCalls struct{ *Server }
	swapCalls      struct{ *Server }
	testCalls      struct{ *Server }
)

// answer sends a value, or an error instead of it.
func answer[T any](c *echo.Context, status int, v T, err error) error {
	if err != nil {
		return err
	}
	return c.JSON(status, v)
}

// lines answers with one JSON document a line.
func lines(c *echo.Context, all iter.Seq[readings.Line]) error {
	c.Response().Header().Set("Content-Type", "application/jsonl")
	c.Response().WriteHeader(http.StatusOK)
	e := json.NewEncoder(c.Response())
	for l := range all {
		if e.Encode(l) != nil {
			return nil // the client is gone
		}
	}
	return nil
}

// maxImport is the largest import.
const maxImport = 1 << 30

// secret sends a value that is shown only once.
func secret(c *echo.Context, v any, err error) error {
	c.Set(isSecret, true)
	return answer(c, http.StatusCreated, v, err)
}

// beat is how often an idle stream says that it is alive.
const beat = 10 * time.Second

// stillEach is how often the rights of a listener are checked again.
const stillEach = 3 * time.Second

func agentHost(c *echo.Context) string {
	name, _ := c.Get(whoHost).(string)
	return name
}

var noLab = &problem.Problem{
	Status: 404,
	Type:   "no-lab",
	Title:  "This service watches real hosts and has no lab.",
	Do:     "Start one with: lantern demo",
}

// inLab does in the lab what a person would do at the hardware. The request is JSON, and so is the result, if there is
// one.
func inLab[T any](s *Server, c *echo.Context, do func(req T) (seen any, err error)) error {
	if s.Lab == nil {
		return noLab
	}
	req, err := take[T](c, maxBody)
	if err != nil {
		return err
	}
	seen, err := do(req)
	switch {
	case err != nil:
		return err
	case seen == nil:
		return c.NoContent(http.StatusNoContent)
	}
	return c.JSON(http.StatusOK, seen)
}
