package httpd

import (
	"archive/zip"
	"bytes"
	"lantern/internal/api"
	"lantern/internal/core/swap"
	"lantern/internal/service/swaps"
	"lantern/internal/service/views"
	"net/http"

	"github.com/labstack/echo/v5"
)

// ListSwaps lists swaps.
func (s swapCalls) ListSwaps(c *echo.Context, p api.ListSwapsParams) error {
	return c.JSON(http.StatusOK, s.Service.Swaps.Swaps(p.Open))
}

// swap answers with a swap and its version.
func (s swapCalls) swap(c *echo.Context, status int, w api.Swap, err error) error {
	if err == nil {
		c.Response().Header().Set("ETag", swaps.ETag(w.Version))
	}
	return answer(c, status, w, err)
}

// PlanSwap plans a swap.
func (s swapCalls) PlanSwap(c *echo.Context, _ api.PlanSwapParams) error {
	req, err := take[api.PlanSwap](c, maxBody)
	if err != nil {
		return err
	}
	w, err := s.Service.Swaps.PlanSwapOf(person(c), req)
	return s.swap(c, http.StatusCreated, w, err)
}

// GetSwap gives a swap.
func (s swapCalls) GetSwap(c *echo.Context, id api.IdParam) error {
	w, err := s.Service.Swaps.Swap(id)
	return s.swap(c, http.StatusOK, w, err)
}

// BeginSwap begins a swap.
func (s swapCalls) BeginSwap(c *echo.Context, id api.IdParam, p api.BeginSwapParams) error {
	req, err := take[api.BeginSwap](c, maxBody)
	if err != nil {
		return err
	}
	w, err := s.Service.Swaps.BeginSwap(person(c), id, p.IfMatch, req)
	return s.swap(c, http.StatusOK, w, err)
}

// ConfirmSwap confirms the new drive.
func (s swapCalls) ConfirmSwap(c *echo.Context, id api.IdParam, p api.ConfirmSwapParams) error {
	req, err := take[api.ConfirmTail](c, maxBody)
	if err != nil {
		return err
	}
	w, err := s.Service.Swaps.ConfirmSwap(person(c), id, p.IfMatch, req)
	return s.swap(c, http.StatusOK, w, err)
}

// word handles a person's action on a swap.
func (s swapCalls) word(c *echo.Context, kind swap.EventKind, id, match string) error {
	req, err := take[api.Reason](c, maxBody)
	if err != nil {
		return err
	}
	w, err := s.Service.Swaps.ActOnSwap(kind, person(c), id, match, req.Reason)
	return s.swap(c, http.StatusOK, w, err)
}

// NextInSwap does the present step, or records that a person did it.
func (s swapCalls) NextInSwap(c *echo.Context, id api.IdParam, p api.NextInSwapParams) error {
	return s.word(c, swap.NextIt, id, p.IfMatch)
}

// BackInSwap returns to the previous step.
func (s swapCalls) BackInSwap(c *echo.Context, id api.IdParam, p api.BackInSwapParams) error {
	return s.word(c, swap.BackIt, id, p.IfMatch)
}

// HoldSwap pauses a swap.
func (s swapCalls) HoldSwap(c *echo.Context, id api.IdParam, p api.HoldSwapParams) error {
	return s.word(c, swap.HoldIt, id, p.IfMatch)
}

// ResumeSwap continues a paused swap.
func (s swapCalls) ResumeSwap(c *echo.Context, id api.IdParam, p api.ResumeSwapParams) error {
	return s.word(c, swap.ResumeIt, id, p.IfMatch)
}

// AbandonSwap abandons a swap.
func (s swapCalls) AbandonSwap(c *echo.Context, id api.IdParam, p api.AbandonSwapParams) error {
	return s.word(c, swap.AbandonIt, id, p.IfMatch)
}

// LeadSwap hands the lead over.
func (s swapCalls) LeadSwap(c *echo.Context, id api.IdParam, p api.LeadSwapParams) error {
	req, err := take[api.LeadSwap](c, maxBody)
	if err != nil {
		return err
	}
	w, err := s.Service.Swaps.LeadSwap(person(c), id, p.IfMatch, req)
	return s.swap(c, http.StatusOK, w, err)
}

// FateOfOld records what is done with the old drive.
func (s swapCalls) FateOfOld(c *echo.Context, id api.IdParam, p api.FateOfOldParams) error {
	req, err := take[api.OldFate](c, maxBody)
	if err != nil {
		return err
	}
	w, err := s.Service.Swaps.FateOfOld(person(c), id, p.IfMatch, req)
	return s.swap(c, http.StatusOK, w, err)
}

// ReportSwap gives the record of a swap.
func (s swapCalls) ReportSwap(c *echo.Context, id api.IdParam) error {
	r, err := s.Service.Views.Report(id)
	return answer(c, http.StatusOK, r, err)
}

// EvidenceOfSwap gives the evidence for a warranty return, as one file.
func (s swapCalls) EvidenceOfSwap(c *echo.Context, id api.IdParam) error {
	files, tail, err := s.Service.Views.Evidence(id)
	return s.bundle(c, files, tail, err)
}

// EvidenceOfDrive gives the same of any drive as it is now.
func (s swapCalls) EvidenceOfDrive(c *echo.Context, drive string) error {
	files, tail, err := s.Service.Views.EvidenceNow(drive)
	return s.bundle(c, files, tail, err)
}

// bundle sends several files as one archive.
func (s swapCalls) bundle(c *echo.Context, files []views.EvidenceFile, tail string, err error) error {
	if err != nil {
		return err
	}
	name := "evidence-" + tail
	if s.Practice.Pool != "" {
		name = "practice-" + name
	}
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, f := range files {
		w, err := z.CreateHeader(&zip.FileHeader{Name: name + "/" + f.Name, Method: zip.Deflate, Modified: f.At})
		if err != nil {
			return err
		}
		if _, err := w.Write(f.Bytes); err != nil {
			return err
		}
	}
	if err := z.Close(); err != nil {
		return err
	}
	c.Response().Header().Set("Content-Disposition", `attachment; filename="`+name+`.zip"`)
	return c.Blob(http.StatusOK, "application/zip", out.Bytes())
}

// ListCampaigns lists campaigns.
func (s swapCalls) ListCampaigns(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Swaps.Campaigns())
}

// PlanCampaign plans a campaign.
func (s swapCalls) PlanCampaign(c *echo.Context, _ api.PlanCampaignParams) error {
	req, err := take[api.PlanCampaign](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Swaps.PlanCampaign(person(c), req)
	return answer(c, http.StatusCreated, v, err)
}

// GetCampaign gives a campaign.
func (s swapCalls) GetCampaign(c *echo.Context, id api.IdParam) error {
	v, err := s.Service.Swaps.Campaign(id)
	return answer(c, http.StatusOK, v, err)
}

// NextInCampaign plans the next swap of a campaign, or orders the pool to grow.
func (s swapCalls) NextInCampaign(c *echo.Context, id api.IdParam, _ api.NextInCampaignParams) error {
	if _, err := take[api.Reason](c, maxBody); err != nil {
		return err
	}
	v, err := s.Service.Swaps.NextInCampaign(person(c), id)
	return answer(c, http.StatusOK, v, err)
}

// SkipInCampaign leaves out the next place.
func (s swapCalls) SkipInCampaign(c *echo.Context, id api.IdParam, _ api.SkipInCampaignParams) error {
	req, err := take[api.Reason](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Swaps.SkipInCampaign(person(c), id, req.Reason)
	return answer(c, http.StatusOK, v, err)
}

// AbandonCampaign ends a campaign.
func (s swapCalls) AbandonCampaign(c *echo.Context, id api.IdParam, _ api.AbandonCampaignParams) error {
	req, err := take[api.Reason](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Swaps.AbandonCampaign(person(c), id, req.Reason)
	return answer(c, http.StatusOK, v, err)
}
