package httpd

import (
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"lantern/internal/api"
	"lantern/internal/harmless"
	"lantern/internal/paper"
	"lantern/internal/service/problem"
)

// ListInventory tells what is known of drives beyond what they tell.
func (s *Server) ListInventory(c *echo.Context, p api.ListInventoryParams) error {
	v, err := s.Service.Inventory.InventoryItems(p.Where, p.Q)
	return answer(c, http.StatusOK, v, err)
}

// ListInventoryFields tells what can be set.
func (s *Server) ListInventoryFields(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Inventory.Fields())
}

// GetInventory tells what is known of one drive.
func (s *Server) GetInventory(c *echo.Context, drive string) error {
	v, err := s.Service.Inventory.Item(drive)
	return answer(c, http.StatusOK, v, err)
}

// SetInventory sets fields of one drive, or adds a note.
func (s *Server) SetInventory(c *echo.Context, drive string, _ api.SetInventoryParams) error {
	req, err := take[api.InventorySet](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Inventory.SetItem(person(c), drive, req)
	return answer(c, http.StatusOK, v, err)
}

// RemoveInventory removes what was written of a drive.
func (s *Server) RemoveInventory(c *echo.Context, drive string) error {
	return none(c, s.Service.Inventory.RemoveItem(person(c), drive))
}

// ImportInventory sets fields of many drives.
func (s *Server) ImportInventory(c *echo.Context) error {
	req, err := take[api.InventoryImport](c, maxReport)
	if err != nil {
		return err
	}
	v, err := s.Service.Inventory.Import(person(c), req)
	return answer(c, http.StatusOK, v, err)
}

// GetFailures tells how often drives fail.
func (s *Server) GetFailures(c *echo.Context, p api.GetFailuresParams) error {
	v, err := s.Service.Views.Failures(p)
	return answer(c, http.StatusOK, v, err)
}

// GetStockAdvice tells what to buy.
func (s *Server) GetStockAdvice(c *echo.Context, p api.GetStockAdviceParams) error {
	v, err := s.Service.Views.Advice(p.LeadDays, p.Confidence)
	return answer(c, http.StatusOK, v, err)
}

// GetReport reports on a period.
func (s *Server) GetReport(c *echo.Context, p api.GetReportParams) error {
	v, err := s.Service.Period(p)
	return answer(c, http.StatusOK, v, err)
}

// GetReportPage is the same as a page that prints, with links to where its figures come from.
func (s *Server) GetReportPage(c *echo.Context, p api.GetReportPageParams) error {
	zone := time.UTC
	if p.Zone != "" {
		z, err := time.LoadLocation(p.Zone)
		if err != nil {
			return problem.New(422, "bad-zone", "Such as Europe/Berlin.", "%q is no time zone.", p.Zone)
		}
		zone = z
	}
	v, err := s.Service.Period(api.GetReportParams{From: p.From, To: p.To, Pool: p.Pool, Room: p.Room})
	if err != nil {
		return err
	}
	harmless.Scrub(&v, false)
	page, err := paper.Report(v, true, s.root(), zone)
	if err != nil {
		return err
	}
	return c.HTML(http.StatusOK, page)
}

// GetStory tells what happened.
func (s *Server) GetStory(c *echo.Context, kind string, name string, p api.GetStoryParams) error {
	v, err := s.Service.Story(kind, name, p)
	return answer(c, http.StatusOK, v, err)
}
