package httpd

import (
	"context"
	"lantern/internal/api"
	"lantern/internal/harmless"
	"lantern/internal/paper"
	"lantern/internal/service/problem"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"
)

// ListInventory lists what people know of drives, such as purchase and warranty.
func (s inventoryCalls) ListInventory(c *echo.Context, p api.ListInventoryParams) error {
	v, err := s.Service.Inventory.InventoryItems(p.Where, p.Q)
	return answer(c, http.StatusOK, v, err)
}

// ListInventoryFields lists the fields that can be set.
func (s inventoryCalls) ListInventoryFields(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Inventory.Fields())
}

// GetInventory gives the inventory record of one drive.
func (s inventoryCalls) GetInventory(c *echo.Context, drive string) error {
	v, err := s.Service.Inventory.Item(drive)
	return answer(c, http.StatusOK, v, err)
}

// SetInventory sets fields of one drive, or adds a note.
func (s inventoryCalls) SetInventory(c *echo.Context, drive string, _ api.SetInventoryParams) error {
	req, err := take[api.InventorySet](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Inventory.SetItem(person(c), drive, req)
	return answer(c, http.StatusOK, v, err)
}

// RemoveInventory removes the inventory record of a drive.
func (s inventoryCalls) RemoveInventory(c *echo.Context, drive string) error {
	return none(c, s.Service.Inventory.RemoveItem(person(c), drive))
}

// ImportInventory sets fields of many drives.
func (s inventoryCalls) ImportInventory(c *echo.Context) error {
	req, err := take[api.InventoryImport](c, maxReport)
	if err != nil {
		return err
	}
	v, err := s.Service.Inventory.Import(person(c), req)
	return answer(c, http.StatusOK, v, err)
}

// GetFailures gives failure rates.
func (s inventoryCalls) GetFailures(c *echo.Context, p api.GetFailuresParams) error {
	v, err := s.Service.Views.Failures(p)
	return answer(c, http.StatusOK, v, err)
}

// GetStockAdvice gives the spares to buy.
func (s inventoryCalls) GetStockAdvice(c *echo.Context, p api.GetStockAdviceParams) error {
	v, err := s.Service.Views.Advice(p.LeadDays, p.Confidence)
	return answer(c, http.StatusOK, v, err)
}

// ListCapacity gives when pools will be full, and what would add room.
func (s inventoryCalls) ListCapacity(c *echo.Context, p api.ListCapacityParams) error {
	v, err := s.Service.Capacity(p)
	return answer(c, http.StatusOK, v, err)
}

// GetReport reports on a period.
func (s inventoryCalls) GetReport(c *echo.Context, p api.GetReportParams) error {
	v, err := s.report(c.Request().Context(), p)
	return answer(c, http.StatusOK, v, err)
}

// report is the report of the service, or at a headquarters that over all sites.
func (s inventoryCalls) report(ctx context.Context, p api.GetReportParams) (api.PeriodReport, error) {
	if s.Headquarters != nil {
		return s.Headquarters.Report(ctx, p)
	}
	return s.Service.Period(p)
}

// GetReportPage is the same as a page for printing, with links to the sources of its figures.
func (s inventoryCalls) GetReportPage(c *echo.Context, p api.GetReportPageParams) error {
	zone := time.UTC
	if p.Zone != "" {
		z, err := time.LoadLocation(p.Zone)
		if err != nil {
			return problem.New(422, "bad-zone", "Such as Europe/Berlin.", "%q is not a time zone.", p.Zone)
		}
		zone = z
	}
	v, err := s.report(c.Request().Context(), api.GetReportParams{From: p.From, To: p.To, Pool: p.Pool, Room: p.Room})
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

// GetStory lists past events.
func (s inventoryCalls) GetStory(c *echo.Context, kind string, name string, p api.GetStoryParams) error {
	v, err := s.Service.Story(kind, name, p)
	return answer(c, http.StatusOK, v, err)
}

// ListStock lists the drives that are kept to replace others.
func (s inventoryCalls) ListStock(c *echo.Context) error {
	if s.Headquarters != nil {
		return c.JSON(http.StatusOK, s.Headquarters.Stock())
	}
	return c.JSON(http.StatusOK, s.Service.Stock.Stock())
}

// KeepInStock adds a drive to the stock.
func (s inventoryCalls) KeepInStock(c *echo.Context, drive string) error {
	req, err := take[api.KeepStock](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Stock.KeepInStock(person(c), drive, req.Note)
	return answer(c, http.StatusOK, v, err)
}

// DropFromStock removes a drive from the stock.
func (s inventoryCalls) DropFromStock(c *echo.Context, drive string) error {
	if err := s.Service.Stock.DropFromStock(person(c), drive); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// SetCold sets whether a host's drives are changed only while it is down.
func (s inventoryCalls) SetCold(c *echo.Context, host string) error {
	req, err := take[api.Cold](c, maxBody)
	if err != nil {
		return err
	}
	h, err := s.Service.Views.SetCold(person(c), host, req.Cold)
	return answer(c, http.StatusOK, h, err)
}
