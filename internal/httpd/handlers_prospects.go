package httpd

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"lantern/internal/api"
)

// WhatIf says what becomes of a pool when members are lost.
func (s *Server) WhatIf(c *echo.Context, name api.PoolParam, q api.WhatIfParams) error {
	p, err := s.Service.Views.WhatIf(name, q.Lose, q.Survives, q.Limit)
	return answer(c, http.StatusOK, p, err)
}

// PlanMoves finds the order of changes that moves least.
func (s *Server) PlanMoves(c *echo.Context, name api.PoolParam) error {
	req, err := take[api.MovesAsked](c, maxBody)
	if err != nil {
		return err
	}
	o, err := s.Service.Views.PlanMoves(name, req)
	return answer(c, http.StatusOK, o, err)
}

// PoolFit says what size takes each member's place.
func (s *Server) PoolFit(c *echo.Context, name api.PoolParam) error {
	f, err := s.Service.Views.Fit(name)
	return answer(c, http.StatusOK, f, err)
}

// SetPriorityHours gives a pool's recoveries another priority within some hours.
func (s *Server) SetPriorityHours(c *echo.Context, name api.PoolParam) error {
	req, err := take[api.PriorityHours](c, maxBody)
	if err != nil {
		return err
	}
	p, err := s.Service.Views.SetPriorityHours(person(c), name, req)
	return answer(c, http.StatusOK, p, err)
}

// RemovePriorityHours leaves a pool's priority as it is.
func (s *Server) RemovePriorityHours(c *echo.Context, name api.PoolParam) error {
	p, err := s.Service.Views.RemovePriorityHours(person(c), name)
	return answer(c, http.StatusOK, p, err)
}

// CopyPool gives all that a practice is made after.
func (s *Server) CopyPool(c *echo.Context, pool api.PoolParam) error {
	if err := s.real("a copy of it would be the copy of a copy"); err != nil {
		return err
	}
	v, err := s.Service.Rehearsal.Copy(pool)
	return answer(c, http.StatusOK, v, err)
}
