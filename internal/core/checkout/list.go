package checkout

import (
	"fmt"
	"strings"

	"ferry/internal/core/site"
)

// MostListed bounds the readings of one list.
const MostListed = 20_000

// Listing is a reading of a list, and the point that it is of.
type Listing struct {
	Line  int    `json:"line"` // from 1
	Name  string `json:"name"`
	Shown string `json:"shown"`
	// Point is empty where none has that name, or several; Why says so.
	Point string `json:"point,omitempty"`
	Why   string `json:"why,omitempty"`
}

// ReadList reads a list of readings as a spreadsheet has them on its clipboard: a name and
// what a display shows in each line, tabs, semicolons or several blanks between; or what the
// displays show alone, one for each of the points in their order. Points are known by their
// names, or by device and name with " · " or a colon between, or by what their places are called
// at the device. A line of headings is
// left out: one whose name is of no point and whose reading has no digit.
func ReadList(text string, points []*site.Point, deviceOf func(*site.Point) string) ([]Listing, error) {
	lines := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	if len(lines) > MostListed {
		return nil, fmt.Errorf("it has %d lines: %d are the most", len(lines), MostListed)
	}
	byName, byPlace := map[string][]*site.Point{}, map[string][]*site.Point{}
	for _, p := range points {
		for _, name := range []string{p.Name, deviceOf(p) + " · " + p.Name, deviceOf(p) + ": " + p.Name} {
			key := folded(name)
			byName[key] = append(byName[key], p)
		}
		if _, place, named := p.Address.Name(); named {
			byPlace[place] = append(byPlace[place], p)
			if at := strings.LastIndexByte(place, '='); at > 0 { // behind the space that the name is in
				byPlace[place[at+1:]] = append(byPlace[place[at+1:]], p)
			}
		}
	}
	list := []Listing{}
	alone := 0
	for i, line := range lines {
		if strings.TrimSpace(line) == "" {
			continue
		}
		l := Listing{Line: i + 1}
		cells := cellsOf(line)
		if len(cells) == 1 {
			if l.Shown = cells[0]; alone < len(points) {
				l.Point, l.Name = points[alone].ID, points[alone].Name
			} else {
				l.Why = fmt.Sprintf("there are %d points, and this is reading %d", len(points), alone+1)
			}
			alone++
			list = append(list, l)
			continue
		}
		l.Name, l.Shown = cells[0], cells[1]
		found := byName[folded(l.Name)]
		if len(found) == 0 {
			found = byPlace[l.Name]
		}
		switch {
		case len(found) == 1:
			l.Point = found[0].ID
		case len(found) > 1:
			l.Why = fmt.Sprintf("%d points have that name: put the device before it, as in %s · %s", len(found),
				deviceOf(found[0]), l.Name)
		case len(list) == 0 && !strings.ContainsAny(l.Shown, "0123456789"):
			continue // headings
		default:
			l.Why = "no point has that name"
		}
		list = append(list, l)
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("it holds no reading: write a name and what its display shows in each line")
	}
	return list, nil
}

func folded(name string) string { return strings.ToLower(strings.Join(strings.Fields(name), " ")) }

// cellsOf are the first two cells of a line.
func cellsOf(line string) []string {
	for _, by := range []string{"\t", ";"} {
		if a, b, ok := strings.Cut(line, by); ok {
			b, _, _ = strings.Cut(b, by)
			return []string{strings.TrimSpace(a), strings.TrimSpace(b)}
		}
	}
	line = strings.TrimSpace(line)
	if at := strings.LastIndex(line, "  "); at > 0 {
		return []string{strings.TrimSpace(line[:at]), strings.TrimSpace(line[at:])}
	}
	return []string{line}
}
