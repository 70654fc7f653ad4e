package api

import (
	"cmp"
	"slices"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/problem"
)

// postProver takes down at which point a window is, so that others see it.
func (s *Server) postProver(c fiber.Ctx) error {
	var at ProverRequest
	if err := bind(c, &at); err != nil {
		return err
	}
	if len(at.Window) > 64 || len(at.Point) > 200 {
		return problem.New("invalid", "That is the name of no window.", "Reload the page.")
	}
	s.provers.put(at.Window, who(c), at.Point, time.Now())
	return c.JSON(s.provers.now(time.Now()))
}

// provers are the windows that prove, each with its point.
type provers struct {
	mu  sync.Mutex
	at  map[string]proverAt // by window
	rev int64
}

type proverAt struct {
	who, point string
	at         time.Time
}

// proverFor is how long a window counts as being at a point after it said so, mostProvers
// how many there may be.
const (
	proverFor   = 20 * time.Second
	mostProvers = 500
)

func (p *provers) put(window, who, point string, at time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.at == nil {
		p.at = map[string]proverAt{}
	}
	was := p.at[window]
	if point == "" {
		delete(p.at, window)
	} else if was.at.IsZero() && len(p.at) >= mostProvers {
		return
	} else {
		p.at[window] = proverAt{who, point, at}
	}
	if was.point != point || was.who != who {
		p.rev++
	}
}

// now lists those that are there.
func (p *provers) now(at time.Time) []ProverView {
	p.mu.Lock()
	defer p.mu.Unlock()
	list := []ProverView{}
	for window, each := range p.at {
		if at.Sub(each.at) > proverFor {
			delete(p.at, window)
			p.rev++
			continue
		}
		list = append(list, ProverView{Window: window, Who: each.who, Point: each.point})
	}
	slices.SortFunc(list, func(a, b ProverView) int {
		return cmp.Or(cmp.Compare(a.Point, b.Point), cmp.Compare(a.Window, b.Window))
	})
	return list
}
