package lookout

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
)

// Gap is a time for which another program had no data.
type Gap struct {
	FromMs int64  `json:"fromMs"`
	ToMs   int64  `json:"toMs"`
	Name   string `json:"name,omitempty"` // of what it had none, as that program calls it
}

// Failed is a time for which a link of Ferry's brought nothing, and how it failed.
type Failed struct {
	Link, Device, Name string
	FromMs, ToMs       int64 // ToMs is now while it lasts
	Out                Out
}

// Brought is how many good values of a device came in a time.
type Brought struct {
	Name string
	Good int
}

// Verdict is what Ferry saw while another program saw nothing.
type Verdict struct {
	Gap
	// Whose is path, device, other or unknown: where it was lost.
	Whose string `json:"whose" jsonschema:"enum=path,enum=device,enum=other,enum=unknown"`
	Says  string `json:"says"`
	// OffMs is by how much the outage that fits began after the gap.
	OffMs int64 `json:"offMs,omitempty"`
	// Link is the one whose outage fits.
	Link string `json:"link,omitempty"`
}

// Comparison is another program's view beside Ferry's.
type Comparison struct {
	Verdicts []Verdict `json:"verdicts"`
	// ClockMs is how far the other program's clock seems to be ahead of this one; 0
	// where the gaps do not say. Clock says so in words.
	ClockMs int64  `json:"clockMs"`
	Clock   string `json:"clock,omitempty"`
	// Skipped are lines that say no time.
	Skipped []string `json:"skipped,omitempty"`
}

// Bounds of what is compared.
const (
	mostGaps    = 5_000
	mostSamples = 500_000
	mostText    = 32 << 20
)

// stamps are the forms in which programs write a time, with the date and without.
var stamps = []string{"2006-01-02T15:04:05.999999999Z07:00", "2006-01-02 15:04:05.999999999Z07:00",
	"2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999", "02.01.2006 15:04:05.999999999",
	"2006/01/02 15:04:05.999999999", "2006-01-02 15:04", "02.01.2006 15:04"}

// timeOf reads a time; one without a date is of the given day.
func timeOf(text string, day time.Time) (at time.Time, ok bool) {
	text = strings.Trim(strings.TrimSpace(text), `"'`)
	for _, form := range stamps {
		if at, err := time.ParseInLocation(form, strings.Replace(text, ",", ".", 1), day.Location()); err == nil {
			return at, true
		}
	}
	for _, form := range []string{"15:04:05.999999999", "15:04"} {
		if at, err := time.ParseInLocation(form, strings.Replace(text, ",", ".", 1), day.Location()); err == nil {
			return time.Date(day.Year(), day.Month(), day.Day(), at.Hour(), at.Minute(), at.Second(), at.Nanosecond(),
				day.Location()), true
		}
	}
	// Seconds or milliseconds since 1970, of this century.
	if n, err := strconv.ParseFloat(text, 64); err == nil && n > 1e9 && n < 1e14 {
		if n > 1e11 {
			n /= 1000
		}
		return time.UnixMicro(int64(math.Round(n * 1e6))), true
	}
	return time.Time{}, false
}

// Gaps reads what another program says: lines of two times, from when to when it had
// no data, with a name after them; or lines of one time with a value, in which the
// gaps are where more time passes than five times the usual, or a value is missing.
// Cells are parted by tabs, semicolons, bars, commas or " to ". day is that of times
// without a date. Lines without a time are skipped and returned.
func Gaps(text string, day time.Time) (gaps []Gap, skipped []string, err error) {
	if len(text) > mostText {
		return nil, nil, problem.New("too-large", "The text is longer than 32 MB.", "Give the part that matters.")
	}
	var samples []sample
	for i, line := range strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n") {
		if strings.TrimSpace(line) == "" {
			continue
		}
		cells := cellsOf(line)
		from, ok := timeOf(cells[0], day)
		if !ok {
			if len(skipped) < 20 {
				skipped = append(skipped, fmt.Sprintf("line %d: %s", i+1, shortened(line)))
			}
			continue
		}
		if len(cells) > 1 {
			if to, two := timeOf(cells[1], day); two {
				if to.Before(from) && len(cells[1]) <= len("15:04:05.000") {
					to = to.AddDate(0, 0, 1) // over midnight
				}
				if to.Before(from) {
					return nil, nil, problem.New("invalid", fmt.Sprintf("Line %d ends before it begins.", i+1),
						"Give the earlier time first.").At(shortened(line))
				}
				gaps = append(gaps, Gap{from.UnixMilli(), to.UnixMilli(), strings.Join(cells[2:], " ")})
				continue
			}
		}
		samples = append(samples, sample{from.UnixMilli(), len(cells) < 2 || missing(cells[1:])})
		if len(samples) > mostSamples || len(gaps) > mostGaps {
			return nil, nil, problem.New("too-large", "There are more than 500 000 values or 5 000 gaps.",
				"Give the part that matters.")
		}
	}
	if len(samples) == 1 && len(gaps) == 0 {
		return nil, nil, problem.New("invalid", "There is one time only.",
			"Give from when to when there was no data, or the values with their times.")
	}
	gaps = append(gaps, between(samples)...)
	slices.SortStableFunc(gaps, func(a, b Gap) int { return cmp.Compare(a.FromMs, b.FromMs) })
	return gaps, skipped, nil
}

// sample is a time at which the other program had a value, or a mark for none.
type sample struct {
	at    int64
	empty bool
}

// missing reports whether no cell holds anything that is a value.
func missing(cells []string) bool {
	return !slices.ContainsFunc(cells, func(c string) bool {
		c = strings.ToLower(strings.TrimSpace(c))
		return c != "" && !slices.Contains([]string{"nan", "null", "-", "--", "bad", "n/a", "?", "none"}, c)
	})
}

// between finds the gaps between samples.
func between(samples []sample) (gaps []Gap) {
	slices.SortStableFunc(samples, func(a, b sample) int { return cmp.Compare(a.at, b.at) })
	there := slices.DeleteFunc(slices.Clone(samples), func(s sample) bool { return s.empty })
	steps := make([]int64, 0, len(there))
	for i := 1; i < len(there); i++ {
		if d := there[i].at - there[i-1].at; d > 0 {
			steps = append(steps, d)
		}
	}
	if len(steps) == 0 {
		return nil
	}
	slices.Sort(steps)
	usual := steps[len(steps)/2]
	marked := map[int]bool{} // a mark for none lies between this one and the next
	for i, k := 0, 0; i < len(samples); i++ {
		if samples[i].empty {
			marked[k-1] = true
		} else {
			k++
		}
	}
	for i := 1; i < len(there); i++ {
		if d := there[i].at - there[i-1].at; d > 5*usual || marked[i-1] && d > usual {
			gaps = append(gaps, Gap{FromMs: there[i-1].at, ToMs: there[i].at})
		}
	}
	return gaps
}

// cellsOf parts a line.
func cellsOf(line string) []string {
	for _, by := range []string{"\t", ";", "|", " to ", " – ", " - "} {
		if strings.Contains(line, by) {
			cells := strings.Split(line, by)
			if by == " to " || by == " – " || by == " - " {
				// The name may follow the second time without anything between.
				if rest := strings.Fields(cells[len(cells)-1]); len(cells) == 2 && len(rest) > 1 {
					for n := min(2, len(rest)); n > 0; n-- {
						if _, ok := timeOf(strings.Join(rest[:n], " "), time.Unix(0, 0).UTC()); ok {
							return []string{strings.TrimSpace(cells[0]), strings.Join(rest[:n], " "), strings.Join(rest[n:], " ")}
						}
					}
				}
			}
			for i := range cells {
				cells[i] = strings.TrimSpace(cells[i])
			}
			return cells
		}
	}
	r := csv.NewReader(strings.NewReader(line))
	r.LazyQuotes = true
	cells, err := r.Read()
	if err != nil || len(cells) == 0 {
		return []string{line}
	}
	for i := range cells {
		cells[i] = strings.TrimSpace(cells[i])
	}
	return cells
}

func shortened(line string) string {
	if r := []rune(strings.TrimSpace(line)); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return strings.TrimSpace(line)
}

// slackMs is by how much the clocks of two programs, and when they notice, may differ
// for an outage and a gap to be the same.
const slackMs = 5_000

// Compare sets what another program saw beside what Ferry saw: the outages of the
// links that matter, and the values that came meanwhile. asked says whether Ferry asked
// at all in a time.
func Compare(gaps []Gap, failed []Failed, brought func(Gap) []Brought, zone *time.Location) Comparison {
	v := Comparison{Verdicts: []Verdict{}}
	if shift, fits := shiftOf(gaps, failed); fits {
		v.ClockMs = shift
		ahead := "ahead of"
		if shift < 0 {
			ahead = "behind"
		}
		v.Clock = fmt.Sprintf("Its gaps fit the outages that Ferry saw if its clock is %s %s this one; they are compared so.",
			Lasted(max(shift, -shift)), ahead)
	}
	seen := &Seen{Zone: zone}
	for _, g := range gaps {
		at := Gap{g.FromMs - v.ClockMs, g.ToMs - v.ClockMs, g.Name}
		said := fmt.Sprintf("Data stopped %s to %s", seen.clock(g.FromMs), seen.clock(g.ToMs))
		if g.Name != "" {
			said = fmt.Sprintf("%s stopped %s to %s", g.Name, seen.clock(g.FromMs), seen.clock(g.ToMs))
		}
		verdict := Verdict{Gap: g, Whose: "unknown"}
		if f := fitting(at, failed); f != nil {
			verdict.Link, verdict.OffMs = f.Link, f.FromMs-at.FromMs
			verdict.Whose, verdict.Says = judged(said, f, seen)
		} else {
			verdict.Whose, verdict.Says = unseen(said, brought(at))
		}
		v.Verdicts = append(v.Verdicts, verdict)
	}
	return v
}

// fitting is the outage that covers most of a gap.
func fitting(g Gap, failed []Failed) (best *Failed) {
	most := int64(0)
	for i := range failed {
		f := &failed[i]
		over := min(g.ToMs, f.ToMs) - max(g.FromMs, f.FromMs)
		// Ferry and the other program notice at different moments: what touches within
		// the slack is the same, what really overlaps fits better.
		if over = max(over, 0) + 1; min(g.ToMs+slackMs, f.ToMs)-max(g.FromMs-slackMs, f.FromMs) > 0 && over > most {
			most, best = over, f
		}
	}
	return best
}

// judged says whose an outage was that both saw.
func judged(said string, f *Failed, seen *Seen) (whose, says string) {
	what := cause(f.Out.How)
	both := fmt.Sprintf("Ferry lost %s from %s to %s too", f.Name, seen.clock(f.FromMs), seen.clock(f.ToMs))
	switch placeOf(f.Out) {
	case "path":
		return "path", fmt.Sprintf("%s; %s, not the server. %s.", said, what, both)
	case "device":
		return "device", fmt.Sprintf("%s; %s. The network path was there. %s.", said, what, both)
	}
	return "unknown", fmt.Sprintf("%s; %s: %s %s.", said, what, sentence(f.Out.Why), both)
}

// placeOf is where an outage was: at the path or at the device.
func placeOf(o Out) string {
	switch o.How {
	case exchange.Unreached, exchange.NoSuchName:
		return "path"
	case exchange.Reported, exchange.Refused, exchange.NoAnswer, exchange.Reset, exchange.Closed, exchange.Garbled,
		exchange.Declined:
		return "device"
	}
	return ""
}

// unseen judges a gap in which Ferry lost nothing.
func unseen(said string, brought []Brought) (whose, says string) {
	good, names := 0, []string{}
	for _, b := range brought {
		if b.Good > 0 {
			good += b.Good
			names = append(names, b.Name)
		}
	}
	if good == 0 {
		return "unknown", said + "; Ferry has no values of that time: it did not ask then, or keeps them no longer."
	}
	if len(names) < len(brought) {
		// It may have been one of those that brought nothing.
		return "unknown", fmt.Sprintf("%s; Ferry lost no link then, and had values of %d of %d devices. Choose the link whose "+
			"data it was: of a device that was not asked nothing can be told.", said, len(names), len(brought))
	}
	of := names[0]
	if len(names) > 1 {
		of = fmt.Sprintf("%d devices", len(names))
	}
	return "other", fmt.Sprintf("%s; Ferry had %d good values of %s in that time: device and network were well as seen "+
		"from here. Look at the other program, at its server, or at the path from there.", said, good, of)
}

// shiftOf finds by how much the other clock is ahead: such that more than half of the
// gaps fit outages of about their length within two seconds, and at least two do. It is
// looked for only where they do not fit as they are.
func shiftOf(gaps []Gap, failed []Failed) (shift int64, fits bool) {
	gaps, failed = gaps[:min(len(gaps), 200)], failed[max(0, len(failed)-2000):]
	var shifts []int64
	asIs := 0
	for _, g := range gaps {
		if fitting(g, failed) != nil {
			asIs++
		}
		for _, f := range failed {
			s := g.FromMs - f.FromMs
			if abs(s) < 26*3600*1000 && abs((g.ToMs-g.FromMs)-(f.ToMs-f.FromMs)) < 4000 {
				shifts = append(shifts, s)
			}
		}
	}
	slices.Sort(shifts)
	best := 0
	for from, to := 0, 0; to < len(shifts); to++ {
		for shifts[to]-shifts[from] > 2000 {
			from++
		}
		if n := to - from + 1; n > best {
			best, shift = n, shifts[from+n/2]
		}
	}
	return shift, best >= 2 && best > asIs && best*2 > len(gaps) && abs(shift) > slackMs
}

func abs(n int64) int64 { return max(n, -n) }
