package api

import (
	"fmt"
	"slices"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/asleft"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/files"
)

// AsLeftRequest names what the site is compared with: a state of the journal, by the number of
// the change that made it, or a site file or pack, as text.
type AsLeftRequest struct {
	Seq  int64  `json:"seq,omitempty"`
	File string `json:"file,omitempty"`
	// Keys are the divergences that are brought over.
	Keys []string `json:"keys,omitempty"`
}

// AsLeftView is what differs.
type AsLeftView struct {
	// With says what it is compared with, and Seq is the state of the site that was compared.
	With        string              `json:"with"`
	Seq         int64               `json:"seq"`
	Divergences []asleft.Divergence `json:"divergences"`
	// More is how many there are besides those.
	More int `json:"more,omitempty"`
	// Said is what was brought over.
	Said string `json:"said,omitempty"`
}

// mostDiverging bounds what is listed.
const mostDiverging = 3000

// then is the site that is compared with.
func (s *Server) then(c fiber.Ctx, asked *AsLeftRequest) (then *site.Site, with string, err error) {
	if asked.File != "" {
		pack, err := files.ReadSiteOrPack([]byte(asked.File))
		if err != nil {
			return nil, "", err
		}
		return pack.Site, "the file of " + pack.Site.Name, nil
	}
	then, _, err = s.Store.SiteAt(c.Context(), asked.Seq)
	return then, fmt.Sprintf("the site after change %d", asked.Seq), err
}

// postAsLeft compares the site with an earlier state or with a file.
func (s *Server) postAsLeft(c fiber.Ctx) error {
	var asked AsLeftRequest
	if err := bind(c, &asked); err != nil {
		return err
	}
	then, with, err := s.then(c, &asked)
	if err != nil {
		return err
	}
	now, seq := s.Store.Site()
	return c.JSON(asLeft(then, now, with, seq))
}

func asLeft(then, now *site.Site, with string, seq int64) *AsLeftView {
	list := asleft.Divergences(then, now)
	return &AsLeftView{With: with, Seq: seq, Divergences: list[:min(len(list), mostDiverging)],
		More: max(0, len(list)-mostDiverging)}
}

// postBringOver makes single things what they were, as one step that can be undone.
func (s *Server) postBringOver(c fiber.Ctx) error {
	var asked AsLeftRequest
	if err := bind(c, &asked); err != nil {
		return err
	}
	then, with, err := s.then(c, &asked)
	if err != nil {
		return err
	}
	if len(asked.Keys) == 0 {
		return problem.New("nothing", "Nothing was chosen.", "Choose what is to be as it was then.")
	}
	said := fmt.Sprintf("brought %d things over from %s", len(asked.Keys), with)
	if len(asked.Keys) == 1 {
		said = "brought one thing over from " + with
	}
	_, err = s.change(c, said, func(now *site.Site) ([]site.Edit, error) {
		list := asleft.Divergences(then, now)
		for _, key := range asked.Keys {
			if !slices.ContainsFunc(list, func(d asleft.Divergence) bool { return d.Key() == key }) {
				return nil, problem.New("stale", "One of these does not differ any more.", "Compare again.").At(key)
			}
		}
		return asleft.Bring(list, asked.Keys), nil
	})
	if err != nil {
		return err
	}
	now, seq := s.Store.Site()
	view := asLeft(then, now, with, seq)
	view.Said = said
	return c.JSON(view)
}
