package regmap

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/finding"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Question is how a table may be meant where it does not say it: each choice
// with what its first rows become.
type Question struct {
	Key     string   `json:"key"` // as in Reading.Settled
	Asks    string   `json:"asks"`
	Choices []Choice `json:"choices"`
}

// Choice is one answer to a question.
type Choice struct {
	Title   string  `json:"title"`
	Example string  `json:"example"`
	Reading Reading `json:"reading"`
	// Flag says the same on the command line.
	Flag string `json:"flag"`
}

// Open returns the questions as findings: a list that leaves them open was read
// by the first choice of each, and may mean another.
func (l *Listing) Open() []finding.Finding {
	found := []finding.Finding{}
	for _, q := range l.Questions {
		f := finding.Finding{Code: "reading-open", Severity: finding.Doubt, Sure: 1, Count: 1, Where: "points",
			Subject:  finding.Subject{Kind: "map", ID: q.Key, Name: "the list"},
			Title:    "The list leaves open how it is meant",
			Sentence: fmt.Sprintf("%s It was read as: %s.", q.Asks, l.taken(q).Title), Evidence: []string{}}
		var flags []string
		for _, c := range q.Choices {
			f.Evidence = append(f.Evidence, c.Title+": "+c.Example)
			flags = append(flags, c.Flag)
		}
		f.Remedy = "Look in the manual, and say it with " + strings.Join(flags, " or ") + "."
		found = append(found, f)
	}
	return found
}

// taken is the choice of a question by which the list was read meanwhile.
func (l *Listing) taken(q Question) Choice {
	for _, c := range q.Choices {
		reading := c.Reading
		reading.Settled = l.Reading.Settled
		if reflect.DeepEqual(reading, l.Reading) {
			return c
		}
	}
	return q.Choices[0]
}

// choice is one answer to the question of a key: the list's reading as set
// makes it, with the question settled.
func (l *Listing) choice(key, title, flag string, set func(*Reading)) Choice {
	reading := l.Reading
	reading.Settled = append(slices.Clone(reading.Settled), key)
	set(&reading)
	return Choice{Title: title, Flag: flag, Reading: reading}
}

// ask adds a question with what one point becomes by each choice: the first
// point that they tell apart, or the first that the question is about. A
// question with a single choice is none.
func (l *Listing) ask(scheme address.Scheme, q Question) {
	if len(q.Choices) < 2 {
		return
	}
	var lines []int
	printed := make([]map[int]string, len(q.Choices))
	for i := range q.Choices {
		with := *l
		with.Reading = q.Choices[i].Reading
		if lines, printed[i] = with.examples(scheme, q.Key); len(lines) > 0 {
			q.Choices[i].Example = printed[i][lines[0]]
		}
	}
	apart := slices.IndexFunc(lines, func(line int) bool {
		differ := false
		for _, texts := range printed {
			if texts[line] == "" {
				return false
			}
			differ = differ || texts[line] != printed[0][line]
		}
		return differ
	})
	for i := range q.Choices {
		if apart >= 0 {
			q.Choices[i].Example = printed[i][lines[apart]]
		}
	}
	l.Questions = append(l.Questions, q)
}

// examples prints the points that a question is about, by their lines and in
// their order. A thousand rows are looked at.
func (l *Listing) examples(scheme address.Scheme, key string) (lines []int, texts map[int]string) {
	few := *l
	few.Rows = few.Rows[:min(len(few.Rows), 1000)]
	points, at, _ := few.Points(scheme)
	texts = map[int]string{}
	for i := range points {
		p := &points[i]
		text := scheme.Short(p.Address)
		switch {
		case key == asksShown && (p.Decimals == nil || *p.Decimals == 0) || key == asksScale && p.Factor == 0 ||
			key == asksOrder && p.Type.Bytes(p.Length) < 4:
			continue
		case key == asksScale || key == asksShown:
			text = fmt.Sprintf("100 read is %s%s", p.Scale().Apply(value.OfInt(100)), unitBehind(p))
		case key == asksOrder:
			text = Cell(scheme, p, Order)
		}
		lines, texts[at[i]] = append(lines, at[i]), shortened(p.Name)+": "+text
	}
	return lines, texts
}

// shortened cuts a name for an example to 28 characters, in its middle.
func shortened(name string) string {
	if r := []rune(name); len(r) > 28 {
		return string(r[:14]) + "…" + string(r[len(r)-13:])
	}
	return name
}

func unitBehind(p *site.Point) string {
	if p.Unit == "" {
		return ""
	}
	return " " + p.Unit
}
