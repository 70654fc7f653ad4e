// Package handover puts together what is handed over when a site is commissioned: what it is
// made of, how its ends are set, what was proved, what is open, and what was changed. It makes
// texts, tables and drawings; how these look on paper is others' concern.
package handover

import (
	"fmt"
	"time"

	"ferry/internal/core/checkout"
	"ferry/internal/core/finding"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
)

// Of is everything that a pack is made of.
type Of struct {
	Site *site.Site
	// Seq is the number of its latest change.
	Seq  int64
	At   time.Time
	By   string
	Mode string
	Plan *timetable.Plan
	// Measured is what a run has measured of requests, by their ids.
	Measured map[string]Measured
	// Routes are those of links, as last tried.
	Routes map[string]*route.Route
	Ground *checkout.Ground
	Stops  []checkout.Stop
	Proofs map[string]*checkout.Proved
	// Findings are those that are open.
	Findings []finding.Finding
	// Steps is what was changed, the latest first.
	Steps []Step
	// Writes is what was written to devices, the latest first.
	Writes []Written
}

// Measured is what a run has seen of one request, in milliseconds.
type Measured struct {
	Count, Failed   int
	MeanMs, WorstMs float64
}

// Step is a change of the site.
type Step struct {
	Seq       int64
	At        time.Time
	Who, What string
}

// Written is a value that was written to a device.
type Written struct {
	At                   time.Time
	Who, Point, Old, New string
	Unit, Outcome        string
}

// Pack is what is handed over.
type Pack struct {
	Site string
	// Facts stand on the cover.
	Facts    []Fact
	Sections []Section
	Made     string // when, as it is to stand there
}

// Fact is a line of the cover.
type Fact struct{ Name, Says string }

// Section is a chapter.
type Section struct {
	Title  string
	Says   string
	Rails  []Rail
	Tables []Table
}

// Rail is a line with what hangs from it.
type Rail struct {
	Title, About string
	// Dashed is a serial line, and Used how much of its time is taken, 1 for all.
	Dashed bool
	Used   float64
	Cards  []Card
}

// Card is a device on a rail. Stops is how far its link went when it was tried, empty where it
// was not; Dark is the end that asks.
type Card struct {
	Name, Place, Says string
	Dark              bool
	Stops             []route.Result
}

// Column is one of a table: its share of the width, and how its cells are set.
type Column struct {
	Title string
	Share float64
	Mono  bool
	Right bool
}

// Table has as many cells in each row as columns. In the spreadsheet it is a sheet, or a part
// of that named Sheet, after a first column with its title.
type Table struct {
	Title, Says string
	Sheet       string
	Columns     []Column
	Rows        [][]string
	// Tall has room for a signature in each row.
	Tall bool
	// Mark is the column whose cells say how the row stands, -1 for none.
	Mark int
}

// Make puts a pack together.
func Make(of *Of) *Pack {
	total := checkout.Progress{}
	for i := range of.Stops {
		c := &of.Stops[i].Counts
		total.Right, total.Wrong, total.Cannot = total.Right+c.Right, total.Wrong+c.Wrong, total.Cannot+c.Cannot
		total.Again, total.Left = total.Again+c.Again, total.Left+c.Left
	}
	points := 0
	for i := range of.Site.Devices {
		points += len(of.Site.Devices[i].Points)
	}
	p := &Pack{Site: of.Site.Name, Made: of.At.Format("2 January 2006, 15:04")}
	p.Facts = []Fact{
		{"Handed over", p.Made}, {"By", of.By},
		{"State of the site", fmt.Sprintf("change %d, %s", of.Seq, lastChange(of))},
		{"Extent", fmt.Sprintf("%s, %s, %s, %s, %s", count(len(of.Site.Lines), "line"), count(len(of.Site.Devices), "device"),
			count(len(of.Site.Links), "link"), count(points, "point"), count(len(of.Site.Crossings), "crossing"))},
		{"Proved", proved(of, &total)},
		{"Open", fmt.Sprintf("%s of which %s", count(len(of.Findings), "finding"), count(faults(of.Findings), "fault"))},
	}
	if of.Site.Remark != "" {
		p.Facts = append(p.Facts, Fact{"Remark", of.Site.Remark})
	}
	p.Sections = []Section{of.drawings(), of.ends(), of.maps(), of.timetable(), of.crossings(), of.record(&total),
		of.open(), of.access(), of.history()}
	return p
}

func lastChange(of *Of) string {
	if len(of.Steps) == 0 {
		return "as it was begun"
	}
	return "of " + of.Steps[0].At.Format("2 January 2006, 15:04")
}

func proved(of *Of, total *checkout.Progress) string {
	said := fmt.Sprintf("%d of %d points right, %d wrong, %d cannot be tested, %d to be proved again, %d not proved",
		total.Right, total.All(), total.Wrong, total.Cannot, total.Again, total.Left)
	if of.Mode != "plant" {
		said += "; on the bench, with simulated devices: this is a rehearsal"
	}
	return said
}

func faults(list []finding.Finding) (n int) {
	for i := range list {
		if list[i].Severity == finding.Fault {
			n++
		}
	}
	return n
}

func count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// nameOf is the name of a device.
func (of *Of) nameOf(id string) string {
	if d := of.Site.Device(id); d != nil {
		return d.Name
	}
	return id
}

// pointOf is the name of a point with that of its device.
func (of *Of) pointOf(id string) string {
	d, p := of.Ground.Point(id)
	if p == nil {
		return id
	}
	return d.Name + " · " + p.Name
}
