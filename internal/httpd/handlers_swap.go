package httpd

import (
	"archive/zip"
	"bytes"
	"net/http"

	"github.com/labstack/echo/v5"

	"lantern/internal/api"
	"lantern/internal/core/swap"
	"lantern/internal/practice"
	"lantern/internal/service/swaps"
	"lantern/internal/service/views"
)

// ListSwaps lists swaps.
func (s *Server) ListSwaps(c *echo.Context, p api.ListSwapsParams) error {
	return c.JSON(http.StatusOK, s.Service.Swaps.Swaps(p.Open))
}

// swap answers with a swap and its version.
func (s *Server) swap(c *echo.Context, status int, w api.Swap, err error) error {
	if err == nil {
		c.Response().Header().Set("ETag", swaps.ETag(w.Version))
	}
	return answer(c, status, w, err)
}

// PlanSwap plans one.
func (s *Server) PlanSwap(c *echo.Context, _ api.PlanSwapParams) error {
	req, err := take[api.PlanSwap](c, maxBody)
	if err != nil {
		return err
	}
	w, err := s.Service.Swaps.PlanSwapOf(person(c), req)
	return s.swap(c, http.StatusCreated, w, err)
}

// GetSwap gives one.
func (s *Server) GetSwap(c *echo.Context, id api.IdParam) error {
	w, err := s.Service.Swaps.Swap(id)
	return s.swap(c, http.StatusOK, w, err)
}

// BeginSwap begins one.
func (s *Server) BeginSwap(c *echo.Context, id api.IdParam, p api.BeginSwapParams) error {
	req, err := take[api.BeginSwap](c, maxBody)
	if err != nil {
		return err
	}
	w, err := s.Service.Swaps.BeginSwap(person(c), id, p.IfMatch, req)
	return s.swap(c, http.StatusOK, w, err)
}

// ConfirmSwap confirms the new drive.
func (s *Server) ConfirmSwap(c *echo.Context, id api.IdParam, p api.ConfirmSwapParams) error {
	req, err := take[api.ConfirmTail](c, maxBody)
	if err != nil {
		return err
	}
	w, err := s.Service.Swaps.ConfirmSwap(person(c), id, p.IfMatch, req)
	return s.swap(c, http.StatusOK, w, err)
}

// word takes a person's word on a swap.
func (s *Server) word(c *echo.Context, kind swap.EventKind, id, match string) error {
	req, err := take[api.Reason](c, maxBody)
	if err != nil {
		return err
	}
	w, err := s.Service.Swaps.ActOnSwap(kind, person(c), id, match, req.Reason)
	return s.swap(c, http.StatusOK, w, err)
}

// NextInSwap does what the step is about, or says that it was done.
func (s *Server) NextInSwap(c *echo.Context, id api.IdParam, p api.NextInSwapParams) error {
	return s.word(c, swap.NextIt, id, p.IfMatch)
}

// BackInSwap goes one step back.
func (s *Server) BackInSwap(c *echo.Context, id api.IdParam, p api.BackInSwapParams) error {
	return s.word(c, swap.BackIt, id, p.IfMatch)
}

// HoldSwap holds one.
func (s *Server) HoldSwap(c *echo.Context, id api.IdParam, p api.HoldSwapParams) error {
	return s.word(c, swap.HoldIt, id, p.IfMatch)
}

// ResumeSwap lets one go on.
func (s *Server) ResumeSwap(c *echo.Context, id api.IdParam, p api.ResumeSwapParams) error {
	return s.word(c, swap.ResumeIt, id, p.IfMatch)
}

// AbandonSwap abandons one.
func (s *Server) AbandonSwap(c *echo.Context, id api.IdParam, p api.AbandonSwapParams) error {
	return s.word(c, swap.AbandonIt, id, p.IfMatch)
}

// LeadSwap hands the lead over.
func (s *Server) LeadSwap(c *echo.Context, id api.IdParam, p api.LeadSwapParams) error {
	req, err := take[api.LeadSwap](c, maxBody)
	if err != nil {
		return err
	}
	w, err := s.Service.Swaps.LeadSwap(person(c), id, p.IfMatch, req)
	return s.swap(c, http.StatusOK, w, err)
}

// FateOfOld records what becomes of the old drive.
func (s *Server) FateOfOld(c *echo.Context, id api.IdParam, p api.FateOfOldParams) error {
	req, err := take[api.OldFate](c, maxBody)
	if err != nil {
		return err
	}
	w, err := s.Service.Swaps.FateOfOld(person(c), id, p.IfMatch, req)
	return s.swap(c, http.StatusOK, w, err)
}

// ReportSwap gives the record of a swap.
func (s *Server) ReportSwap(c *echo.Context, id api.IdParam) error {
	r, err := s.Service.Views.Report(id)
	return answer(c, http.StatusOK, r, err)
}

// EvidenceOfSwap gives what a warranty return is argued with, as one file.
func (s *Server) EvidenceOfSwap(c *echo.Context, id api.IdParam) error {
	files, tail, err := s.Service.Views.Evidence(id)
	return s.bundle(c, files, tail, err)
}

// EvidenceOfDrive gives the same of any drive as it is now.
func (s *Server) EvidenceOfDrive(c *echo.Context, drive string) error {
	files, tail, err := s.Service.Views.EvidenceNow(drive)
	return s.bundle(c, files, tail, err)
}

// bundle answers files as one.
func (s *Server) bundle(c *echo.Context, files []views.EvidenceFile, tail string, err error) error {
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
func (s *Server) ListCampaigns(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Swaps.Campaigns())
}

// PlanCampaign plans one.
func (s *Server) PlanCampaign(c *echo.Context, _ api.PlanCampaignParams) error {
	req, err := take[api.PlanCampaign](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Swaps.PlanCampaign(person(c), req)
	return answer(c, http.StatusCreated, v, err)
}

// GetCampaign gives one.
func (s *Server) GetCampaign(c *echo.Context, id api.IdParam) error {
	v, err := s.Service.Swaps.Campaign(id)
	return answer(c, http.StatusOK, v, err)
}

// NextInCampaign plans its next swap, or lets the pool grow.
func (s *Server) NextInCampaign(c *echo.Context, id api.IdParam, _ api.NextInCampaignParams) error {
	if _, err := take[api.Reason](c, maxBody); err != nil {
		return err
	}
	v, err := s.Service.Swaps.NextInCampaign(person(c), id)
	return answer(c, http.StatusOK, v, err)
}

// SkipInCampaign leaves the next place out.
func (s *Server) SkipInCampaign(c *echo.Context, id api.IdParam, _ api.SkipInCampaignParams) error {
	req, err := take[api.Reason](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Swaps.SkipInCampaign(person(c), id, req.Reason)
	return answer(c, http.StatusOK, v, err)
}

// AbandonCampaign ends one.
func (s *Server) AbandonCampaign(c *echo.Context, id api.IdParam, _ api.AbandonCampaignParams) error {
	req, err := take[api.Reason](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Swaps.AbandonCampaign(person(c), id, req.Reason)
	return answer(c, http.StatusOK, v, err)
}

// ListAcceptances lists tests of new drives.
func (s *Server) ListAcceptances(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Stock.Acceptances())
}

// AcceptDrive begins one.
func (s *Server) AcceptDrive(c *echo.Context, _ api.AcceptDriveParams) error {
	req, err := take[api.AcceptDrive](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Stock.Accept(person(c), req)
	return answer(c, http.StatusCreated, v, err)
}

// GetAcceptPolicy gives what new drives are tested for.
func (s *Server) GetAcceptPolicy(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Stock.AcceptPolicy())
}

// SetAcceptPolicy sets it.
func (s *Server) SetAcceptPolicy(c *echo.Context) error {
	req, err := take[api.AcceptPolicy](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Stock.SetAcceptPolicy(person(c), req)
	return answer(c, http.StatusOK, v, err)
}

// GetAcceptance gives one.
func (s *Server) GetAcceptance(c *echo.Context, id api.IdParam) error {
	v, err := s.Service.Stock.Acceptance(id)
	return answer(c, http.StatusOK, v, err)
}

func (s *Server) onAcceptance(c *echo.Context, id, what string) error {
	req, err := take[api.Reason](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Stock.ActOnAcceptance(person(c), id, what, req.Reason)
	return answer(c, http.StatusOK, v, err)
}

// PauseAcceptance pauses one.
func (s *Server) PauseAcceptance(c *echo.Context, id api.IdParam, _ api.PauseAcceptanceParams) error {
	return s.onAcceptance(c, id, "pause")
}

// ResumeAcceptance lets one go on.
func (s *Server) ResumeAcceptance(c *echo.Context, id api.IdParam, _ api.ResumeAcceptanceParams) error {
	return s.onAcceptance(c, id, "resume")
}

// StopAcceptance ends one.
func (s *Server) StopAcceptance(c *echo.Context, id api.IdParam, _ api.StopAcceptanceParams) error {
	return s.onAcceptance(c, id, "stop")
}

// ListStock lists the drives that are kept to replace others.
func (s *Server) ListStock(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Stock.Stock())
}

// KeepInStock says that a drive is.
func (s *Server) KeepInStock(c *echo.Context, drive string) error {
	req, err := take[api.KeepStock](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Stock.KeepInStock(person(c), drive, req.Note)
	return answer(c, http.StatusOK, v, err)
}

// DropFromStock says that it is not any more.
func (s *Server) DropFromStock(c *echo.Context, drive string) error {
	if err := s.Service.Stock.DropFromStock(person(c), drive); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// SetCold says whether a host's drives are changed only while it is down.
func (s *Server) SetCold(c *echo.Context, host string) error {
	req, err := take[api.Cold](c, maxBody)
	if err != nil {
		return err
	}
	h, err := s.Service.Views.SetCold(person(c), host, req.Cold)
	return answer(c, http.StatusOK, h, err)
}

// LabPower takes a lab host down, or brings it up.
func (s *Server) LabPower(c *echo.Context) error {
	return inLab(s, c, func(req api.LabPower) (any, error) { return nil, s.Lab.Power(req.Host, req.On) })
}

// LabRead reads a label, or all data of a pool.
func (s *Server) LabRead(c *echo.Context) error {
	return inLab(s, c, func(req api.LabRead) (any, error) {
		var out api.LabSeen
		if req.Bay != "" {
			out.Tail = s.Lab.At(req.Bay)
		}
		if req.Pool != "" {
			if err := s.Lab.ReadBack(req.Pool); err != nil {
				out.Lost = err.Error()
			}
		}
		return out, nil
	})
}

// LabStuck makes the recoveries of a lab pool wait for a word.
func (s *Server) LabStuck(c *echo.Context) error {
	return inLab(s, c, func(req api.LabStuck) (any, error) { return nil, s.Lab.Stick(req.Pool, req.Stuck) })
}

// LabMishap lets something go wrong in a pool when its time has come.
func (s *Server) LabMishap(c *echo.Context) error {
	return inLab(
		s,
		c,
		func(req api.LabMishap) (any, error) { return nil, s.Lab.Throw(req.Pool, practice.Mishap(req.Mishap)) },
	)
}
