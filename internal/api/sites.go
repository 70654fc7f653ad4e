package api

import (
	"path/filepath"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/sites"
)

// SitesView lists the sites of this machine.
type SitesView struct {
	Sites []sites.Site `json:"sites"`
	Open  string       `json:"open"` // id of the one that is open
}

// SiteRequest is about one site, or begins one under a name.
type SiteRequest struct {
	ID   string `json:"id"`
	Name string `json:"name"`
}

// DoneView says what was done.
type DoneView struct {
	Sentence string `json:"sentence"`
	ID       string `json:"id"`
}

func (s *Server) noSites() error {
	if s.Sites == nil {
		return problem.New("one-site", "This Ferry keeps one site.", "")
	}
	return nil
}

func (s *Server) getSites(c fiber.Ctx) error {
	if err := s.noSites(); err != nil {
		return c.JSON(SitesView{Sites: []sites.Site{}})
	}
	now, _ := s.Store.Site()
	list, open := s.Sites.List(now.Name)
	return c.JSON(SitesView{list, open})
}

// postOpen ends the run of this site, and goes on with another.
func (s *Server) postOpen(c fiber.Ctx) error {
	var r SiteRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if err := s.noSites(); err != nil {
		return err
	}
	if state := s.Engine.State(); len(state.Running) > 0 {
		return problem.New("runs", "The run of this site goes on.", "Stop it first: only the open site is asked.")
	}
	now, _ := s.Store.Site()
	if err := s.Sites.Choose(r.ID, now.Name); err != nil {
		return err
	}
	s.Again()
	return c.JSON(DoneView{"It opens.", r.ID})
}

func (s *Server) postBegin(c fiber.Ctx) error {
	var r SiteRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if err := s.noSites(); err != nil {
		return err
	}
	id, err := s.Sites.Add(c.Context(), site.New(r.Name), r.Name)
	if err != nil {
		return err
	}
	return c.JSON(DoneView{r.Name + " is begun.", id})
}

func (s *Server) postCopySite(c fiber.Ctx) error {
	var r SiteRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if err := s.noSites(); err != nil {
		return err
	}
	content, _ := s.Store.Site()
	if open, _ := s.Sites.Open(); r.ID != open {
		var err error
		if content, err = s.Sites.Content(c.Context(), r.ID); err != nil {
			return err
		}
	}
	id, err := s.Sites.Add(c.Context(), content, r.Name)
	if err != nil {
		return err
	}
	return c.JSON(DoneView{r.Name + " is kept, with a journal of its own.", id})
}

func (s *Server) postRemoveSite(c fiber.Ctx) error {
	var r SiteRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if err := s.noSites(); err != nil {
		return err
	}
	kept, err := s.Sites.Remove(r.ID)
	if err != nil {
		return err
	}
	return c.JSON(DoneView{"The site is no longer on the shelf. Its folder is kept as " + filepath.Join("removed",
		filepath.Base(kept)) + " in the data folder.", r.ID})
}
