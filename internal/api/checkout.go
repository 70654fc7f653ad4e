package api

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/checkout"
	"ferry/internal/core/problem"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/files"
	"ferry/internal/store"
)

// walked is the walk past all points as it was last worked out.
type walked struct {
	mu       sync.Mutex
	ground   *checkout.Ground
	stops    []checkout.Stop
	seq, rev int64
	mode     string
}

// mode is that whose proofs count.
func (s *Server) mode() string { return string(s.Engine.State().Mode) }

// ground is the site as it is, prepared for judging proofs, and its walk.
func (s *Server) ground() (*checkout.Ground, []checkout.Stop, *store.Snapshot, int64) {
	now := s.Store.Now()
	mode := s.mode()
	last, rev := s.Store.Proofs(mode)
	w := &s.walked
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.ground == nil || w.seq != now.Seq || w.ground.Site() != now.Site {
		w.ground, w.seq, w.stops = checkout.On(now.Site), now.Seq, nil
	}
	if w.stops == nil || w.rev != rev || w.mode != mode {
		w.stops, w.rev, w.mode = w.ground.Walk(last), rev, mode
	}
	return w.ground, w.stops, now, rev
}

// getCheckout lists the devices in walking order, and how far each is.
func (s *Server) getCheckout(c fiber.Ctx) error {
	_, stops, now, rev := s.ground()
	view := CheckoutView{Seq: now.Seq, Rev: rev, Stops: make([]StopView, 0, len(stops)), At: s.provers.now(time.Now())}
	for _, stop := range stops {
		d := now.Site.Device(stop.Device)
		view.Stops = append(view.Stops, StopView{Cabinet: stop.Cabinet, Line: stop.Line, Device: stop.Device, Name: d.Name,
			Counts: stop.Counts})
	}
	return c.JSON(view)
}

// getProving lists how the points of a device stand.
func (s *Server) getProving(c fiber.Ctx) error {
	_, stops, now, rev := s.ground()
	last, _ := s.Store.Proofs(s.mode())
	view := ProvingView{Seq: now.Seq, Rev: rev, Points: []ProvingPoint{}}
	for _, stop := range stops {
		if stop.Device != c.Params("id") {
			continue
		}
		d := now.Site.Device(stop.Device)
		at := map[string]*site.Point{}
		for i := range d.Points {
			at[d.Points[i].ID] = &d.Points[i]
		}
		for _, stand := range stop.Points {
			p := at[stand.Point]
			row := ProvingPoint{Stand: stand, Name: p.Name, Unit: p.Unit, Type: regmap.PrintType(p), Names: p.Names,
				Writable: p.Access != site.ReadOnly, TwoState: p.Type == value.TypeBool}
			if scheme, err := d.SchemeOf(p); err == nil {
				row.Address = regmap.Cell(scheme, p, regmap.Address)
				row.Order = regmap.Cell(scheme, p, regmap.Order)
			}
			if proof := last[p.ID]; proof != nil && proof.Result != checkout.Withdrawn {
				row.Says = said(proof)
			}
			view.Points = append(view.Points, row)
		}
	}
	return c.JSON(view)
}

// said is a proof in some words for a list: what was read, or why not.
func said(p *checkout.Proved) string {
	switch {
	case p.Result == checkout.Cannot:
		return "cannot: " + p.Reason
	case p.Result == checkout.Wrong:
		return "wrong"
	}
	return strings.TrimSpace(p.Read + " " + p.Unit)
}

// getProof says all that is known of proving one point.
func (s *Server) getProof(c fiber.Ctx) error {
	g, _, now, _ := s.ground()
	d, p := g.Point(c.Params("id"))
	if p == nil {
		return gonePoint(c.Params("id"))
	}
	list, err := s.Store.ProofsOf(c.Context(), p.ID)
	if err != nil {
		return err
	}
	view := ProofView{Point: p.ID, Device: d.ID, Versions: versions(now, g, d, p), Proofs: list, Far: s.farOf(g, p)}
	if l := g.LinkOf(d, p); l != nil {
		view.Link = l.ID
		if line := now.Site.Line(l.Line); line != nil {
			view.Line = line.Name
		}
	}
	return c.JSON(view)
}

func gonePoint(id string) error {
	return problem.New("gone", "The point is no longer in the site.", "Reload to see what changed.").At(id)
}

// versions are the journal numbers of the last changes of what a proof of a point names.
func versions(now *store.Snapshot, g *checkout.Ground, d *site.Device, p *site.Point) (v checkout.Versions) {
	v.Map = now.Versions(site.KindPoint, d.ID)[p.ID]
	if l := g.LinkOf(d, p); l != nil {
		v.Link = max(now.Versions(site.KindLink, "")[l.ID], now.Versions(site.KindDevice, "")[d.ID])
	}
	for _, x := range g.Crossings(p.ID) {
		v.Crossing = max(v.Crossing, now.Versions(site.KindCrossing, "")[x.ID])
	}
	return v
}

// postJudge compares what a point reads now, or read a moment ago, with what somebody has
// typed.
func (s *Server) postJudge(c fiber.Ctx) error {
	var asked JudgeRequest
	if err := bind(c, &asked); err != nil {
		return err
	}
	g, _, _, _ := s.ground()
	d, p := g.Point(asked.Point)
	if p == nil {
		return gonePoint(asked.Point)
	}
	live, ok := s.Engine.Hub.Point(p.ID)
	if !ok || live.AtMs == 0 || live.Quality == value.Bad {
		return problem.New("not-read", "Ferry does not read the point: "+cmp.Or(live.Reason, "it has not been read yet")+".",
			"Start the run, or say that it cannot be tested.").At(d.Name + " · " + p.Name)
	}
	view, err := s.compared(p, &live, asked.Shown)
	if err != nil {
		return problem.New("bad-value", err.Error()+".", "Type what the display shows, such as 12.7.").At(p.Name)
	}
	return c.JSON(view)
}

// compared sets what a point reads beside what a display shows: the value now, or one of the
// last seconds, as the display may be behind what was read, or ahead of it.
func (s *Server) compared(p *site.Point, live *field.Live, shown string) (view VerdictView, err error) {
	view.Read, view.ReadAtMs = live.Shown, live.AtMs
	if view.Verdict, err = checkout.Judge(p, live.Value, shown); err != nil || view.Agrees {
		return view, err
	}
	trend := s.Engine.Hub.Trend(p.ID)
	for i := len(trend) - 1; i >= 0 && live.AtMs-trend[i].AtMs <= lookedBack(p); i-- {
		before := earlier(live.Value, trend[i].V)
		if v, err := checkout.Judge(p, before, shown); err == nil && v.Agrees {
			view.Verdict, view.Read, view.ReadAtMs = v, p.Shown(before), trend[i].AtMs
			view.EarlierMs = live.AtMs - trend[i].AtMs
			break
		}
	}
	return view, nil
}

// lookedBack is how long ago a value of a point may have been read that a display shows, in
// milliseconds: some seconds, and as long as it takes for another to be read.
func lookedBack(p *site.Point) int64 { return 5000 + int64(p.PaceMs) }

// mostProved bounds the points of one request, mostWords what is said of one.
const (
	mostProved = 5000
	mostWords  = 2000
)

// postProofs records what came of looking at points. What Ferry read goes with it as it
// was seen; where the site has changed since, nothing is recorded.
func (s *Server) postProofs(c fiber.Ctx) error {
	var asked ProofRequest
	if err := bind(c, &asked); err != nil {
		return err
	}
	if len(asked.Points) == 0 || len(asked.Points) > mostProved {
		return problem.New("invalid", fmt.Sprintf("A proof is of 1 to %d points.", mostProved), "")
	}
	switch asked.Result {
	case checkout.Right, checkout.Wrong, checkout.Withdrawn:
	case checkout.Cannot:
		if strings.TrimSpace(asked.Reason) == "" {
			return problem.New("no-reason", "Why it cannot be tested is missing.", "Say it in some words: the guard is closed.")
		}
	default:
		return problem.New("invalid", fmt.Sprintf("%q is no result of a proof.", asked.Result), "Reload the page.")
	}
	if !slices.Contains([]checkout.Method{"", checkout.Display, checkout.Seen, checkout.Moved, checkout.Command,
		checkout.Listed, checkout.Ramped}, asked.Method) {
		return problem.New("invalid", fmt.Sprintf("%q is no way to prove a point.", asked.Method), "Reload the page.")
	}
	if len(asked.Reason) > mostWords || len(asked.Remark) > mostWords {
		return problem.New("too-long", fmt.Sprintf("A reason or a remark has at most %d characters.", mostWords),
			"Say it shorter.")
	}
	g, _, now, _ := s.ground()
	list := make([]checkout.Proved, 0, len(asked.Points))
	for _, seen := range asked.Points {
		p, err := s.proofOf(c, g, now, &asked, &seen)
		if err != nil {
			return err
		}
		list = append(list, p)
	}
	if err := s.Store.AddProofs(c.Context(), list); err != nil {
		return problem.New("not-kept", "The proof could not be kept: "+err.Error()+".",
			"Look at the disk, then prove it again.")
	}
	_, rev := s.Store.Proofs(s.mode())
	return c.JSON(RecordedView{Rev: rev, Proofs: list})
}

// proofOf is the proof of one point.
func (s *Server) proofOf(c fiber.Ctx, g *checkout.Ground, now *store.Snapshot, asked *ProofRequest,
	seen *ProofPoint) (checkout.Proved, error) {
	d, p := g.Point(seen.Point)
	if p == nil {
		return checkout.Proved{}, gonePoint(seen.Point)
	}
	where := d.Name + " · " + p.Name
	if len(seen.Shown) > mostWords || len(seen.Read) > mostWords {
		return checkout.Proved{}, problem.New("too-long", "No display shows so much.", "Type what it shows.").At(where)
	}
	v := versions(now, g, d, p)
	if seen.Versions != nil && *seen.Versions != v {
		return checkout.Proved{}, &status{409, problem.New("changed", "The point, its link or its crossing has been changed "+
			"since you looked at it.", "Look at what Ferry reads now, and prove it again.").At(where)}
	}
	proof := checkout.Proved{Point: p.ID, Device: d.ID, Name: where, Result: asked.Result, Method: asked.Method,
		Reason: strings.TrimSpace(asked.Reason), Remark: strings.TrimSpace(asked.Remark), Who: who(c),
		Mode: s.mode(),
		Unit: p.Unit, Shown: strings.TrimSpace(seen.Shown), Versions: v, Basis: g.Basis(p.ID)}
	if asked.Result != checkout.Cannot {
		proof.Reason = ""
	}
	if scheme, err := d.SchemeOf(p); err == nil {
		proof.Address = scheme.Short(p.Address)
	}
	live, _ := s.Engine.Hub.Point(p.ID)
	read := live.AtMs > 0 && live.Quality != value.Bad
	if asked.Result == checkout.Right && !read && asked.Method != checkout.Command {
		return proof, problem.New("not-read", "Ferry does not read the point, so it cannot be right: "+
			cmp.Or(live.Reason, "it has not been read yet")+".", "Start the run, or say that it cannot be tested.").At(where)
	}
	if asked.Result == checkout.Right && live.Quality == value.Doubtful && asked.Method != checkout.Command {
		return proof, problem.New("doubtful", "Ferry doubts what it reads, so it cannot be right: "+live.Reason+".",
			"Wait until it is read again, or say that it cannot be tested.").At(where)
	}
	if asked.Result != checkout.Withdrawn && read {
		proof.Read, proof.Words, proof.ReadAtMs = live.Shown, live.Words, live.AtMs
		if seen.ReadAtMs > 0 && live.AtMs-seen.ReadAtMs < asSeen.Milliseconds() && seen.Read != "" {
			proof.Read, proof.ReadAtMs = seen.Read, seen.ReadAtMs // as it was seen, a moment before
			if seen.ReadAtMs != live.AtMs {
				proof.Words = ""
			}
		}
	}
	if asked.Result == checkout.Right && proof.Shown != "" && !p.Type.IsText() {
		if err := s.stillAgrees(p, &proof, live); err != nil {
			return proof, err
		}
	}
	for _, far := range s.farOf(g, p) {
		if there, _ := s.Engine.Hub.Point(far.Point); far.Into && there.AtMs > 0 {
			proof.Far, proof.FarName, proof.Expected = strings.TrimSpace(there.Shown+" "+far.Unit), far.Name, far.Expected
			break
		}
	}
	return proof, nil
}

// asSeen is how long ago a value may have been seen that somebody says is right.
const asSeen = time.Minute

// stillAgrees refuses a proof whose two readings do not agree: nobody means that.
func (s *Server) stillAgrees(p *site.Point, proof *checkout.Proved, live field.Live) error {
	read := live.Value
	if proof.ReadAtMs != live.AtMs {
		v, err := p.ParseValue(proof.Read)
		if err != nil {
			return nil // it was shown with a name
		}
		read = v
	}
	v, err := checkout.Judge(p, read, proof.Shown)
	if err != nil {
		return problem.New("bad-value", err.Error()+".", "Type what the display shows, such as 12.7.").At(proof.Name)
	}
	if !v.Agrees {
		return problem.New("apart", fmt.Sprintf("Ferry read %s and the display shows %s: that is not the same.", proof.Read,
			proof.Shown), "Say that it is wrong, or look again.").At(proof.Name)
	}
	return nil
}

// postReadings sets a list of what displays show beside what Ferry reads. Nothing is recorded
// by it.
func (s *Server) postReadings(c fiber.Ctx) error {
	var asked ReadingsRequest
	if err := bind(c, &asked); err != nil {
		return err
	}
	g, stops, _, _ := s.ground()
	var points []*site.Point
	of := map[string]*site.Device{}
	for _, stop := range stops {
		if asked.Device != "" && stop.Device != asked.Device {
			continue
		}
		for _, stand := range stop.Points {
			d, p := g.Point(stand.Point)
			points, of[p.ID] = append(points, p), d
		}
	}
	list, err := checkout.ReadList(asked.Text, points, func(p *site.Point) string { return of[p.ID].Name })
	if err != nil {
		return problem.New("bad-list", "The list cannot be read: "+err.Error()+".",
			"Copy the column from the sheet once more.")
	}
	view := ReadingsView{Rows: make([]ReadingRow, 0, len(list))}
	for _, l := range list {
		row := ReadingRow{Listing: l}
		if _, p := g.Point(l.Point); p != nil {
			row.Name, row.Unit = of[p.ID].Name+" · "+p.Name, p.Unit
			live, _ := s.Engine.Hub.Point(p.ID)
			if live.AtMs == 0 || live.Quality == value.Bad {
				row.Why = "Ferry does not read it: " + cmp.Or(live.Reason, "it has not been read yet")
			} else if v, err := s.compared(p, &live, l.Shown); err != nil {
				row.Why = err.Error()
			} else {
				row.Verdict, row.Read, row.ReadAtMs, row.Judged = v.Verdict, v.Read, v.ReadAtMs, true
				if v.Agrees && live.Quality == value.Doubtful { // one that is doubted keeps the others from nothing
					row.Judged, row.Why = false, "Ferry doubts it: "+live.Reason
				}
			}
		}
		view.Rows = append(view.Rows, row)
	}
	return c.JSON(view)
}

// getProofs is the record of all proofs, the latest first.
func (s *Server) getProofs(c fiber.Ctx) error {
	list, err := s.Store.AllProofs(c.Context(), 2000)
	if err != nil {
		return err
	}
	for i := range list {
		list[i].Basis = []checkout.Fact{}
	}
	return c.JSON(list)
}

// getRecordFile hands the record of the checkout out as a table.
func (s *Server) getRecordFile(c fiber.Ctx) error {
	g, stops, now, _ := s.ground()
	last, _ := s.Store.Proofs(s.mode())
	var out bytes.Buffer
	if err := files.WriteTable(&out, g.Record(stops, last)); err != nil {
		return err
	}
	c.Set("Content-Type", "text/csv; charset=utf-8")
	c.Attachment(fileName(now.Site.Name+" checkout") + ".csv")
	return c.Send(out.Bytes())
}
