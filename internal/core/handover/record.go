package handover

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"ferry/internal/core/checkout"
)

// states are how points stand, in words.
var states = map[checkout.ProofState]string{checkout.Left: "not proved", checkout.IsRight: "right",
	checkout.IsWrong: "wrong", checkout.IsCannot: "cannot be tested", checkout.Again: "to be proved again"}

// record is what was proved, by whom, and who puts their name to it.
func (of *Of) record(total *checkout.Progress) Section {
	s := Section{Title: "Checkout record", Says: strings.ToUpper(proved(of, total)[:1]) + proved(of, total)[1:] + "."}
	type prover struct {
		name        string
		right, all  int
		first, last int64
	}
	by := map[string]*prover{}
	for i := range of.Stops {
		stop := &of.Stops[i]
		d := of.Site.Device(stop.Device)
		if d == nil {
			continue
		}
		where := stop.Cabinet
		if line := of.Site.Line(stop.Line); line != nil {
			where = strings.TrimPrefix(where+" · "+line.Name, " · ")
		}
		t := Table{Title: d.Name, Says: where, Sheet: "Record", Mark: 1, Columns: []Column{{"Point", 0.17, false, false},
			{"Stands", 0.1, false, false}, {"Ferry read", 0.11, true, true}, {"Its display", 0.1, true, true},
			{"Far shore", 0.17, false, false}, {"Showed", 0.09, true, true}, {"Said", 0.12, false, false},
			{"By", 0.08, false, false},
			{"When", 0.06, false, false}}}
		for _, stand := range stop.Points {
			_, p := of.Ground.Point(stand.Point)
			proof := of.Proofs[stand.Point]
			if p == nil {
				continue
			}
			row := []string{p.Name, states[stand.State], "", "", "", "", "", "", ""}
			if proof != nil && proof.Result != checkout.Withdrawn {
				at := time.UnixMilli(proof.AtMs).In(of.At.Location())
				said := slices.DeleteFunc(append([]string{proof.Reason, proof.Remark}, stand.Changed...),
					func(text string) bool { return text == "" })
				copy(row[2:], []string{strings.TrimSpace(proof.Read + " " + proof.Unit), proof.Shown, proof.FarName, proof.Far,
					strings.Join(said, "; "), proof.Who, at.Format("02 Jan 15:04")})
				who := by[proof.Who]
				if who == nil {
					who = &prover{name: proof.Who, first: proof.AtMs}
					by[proof.Who] = who
				}
				who.all, who.first, who.last = who.all+1, min(who.first, proof.AtMs), max(who.last, proof.AtMs)
				if stand.State == checkout.IsRight {
					who.right++
				}
			}
			t.Rows = append(t.Rows, row)
		}
		s.Tables = append(s.Tables, t)
	}
	signed := Table{Title: "Signatures", Says: "Each for what is recorded here under this name.", Sheet: "Signatures",
		Tall: true, Mark: -1,
		Columns: []Column{{"Name", 0.22, false, false}, {"Proved", 0.09, true, true}, {"Of these right", 0.1, true, true},
			{"First", 0.13, false, false}, {"Last", 0.13, false, false}, {"Signature and date", 0.33, false, false}}}
	for _, who := range slices.SortedFunc(maps.Values(by), func(a, b *prover) int { return cmp.Compare(a.name, b.name) }) {
		at := func(ms int64) string { return time.UnixMilli(ms).In(of.At.Location()).Format("2 Jan 2006 15:04") }
		signed.Rows = append(signed.Rows, []string{who.name, strconv.Itoa(who.all), strconv.Itoa(who.right), at(who.first),
			at(who.last), ""})
	}
	signed.Rows = append(signed.Rows, []string{"Handed over by", "", "", "", "", ""},
		[]string{"Taken over by", "", "", "", "", ""})
	s.Tables = append([]Table{signed}, s.Tables...)
	return s
}

// access are the checklists of what has to be switched on in the devices.
func (of *Of) access() Section {
	s := Section{Title: "Access checklists",
		Says: "What has to be switched on in each device before it answers, and who has seen " +
			"to it."}
	for i := range of.Site.Devices {
		d := &of.Site.Devices[i]
		t := Table{Title: d.Name, Sheet: "Access", Mark: 1, Columns: []Column{{"What", 0.5, false, false},
			{"Done", 0.1, false, false}, {"By", 0.2, false, false}, {"When", 0.2, false, false}}}
		for _, line := range of.Site.Checklist(d) {
			row := []string{line.Text, "no", "", ""}
			if tick, ok := d.Ticked(line.ID); ok {
				row[1], row[2], row[3] = "yes", tick.By, tick.At
				if at, err := time.Parse(time.RFC3339, tick.At); err == nil {
					row[3] = at.In(of.At.Location()).Format("2 Jan 2006 15:04")
				}
			}
			t.Rows = append(t.Rows, row)
		}
		if len(t.Rows) > 0 {
			s.Tables = append(s.Tables, t)
		}
	}
	if len(s.Tables) == 0 {
		s.Says = "No device needs anything switched on that somebody has noted."
	}
	return s
}

// history is what was changed in the site, and what was written to its devices.
func (of *Of) history() Section {
	s := Section{Title: "Change history",
		Says: "What was changed in the site, and what people and crossings wrote to its devices, " +
			"the latest first."}
	t := Table{Title: "Changes of the site", Sheet: "Changes", Mark: -1, Columns: []Column{{"Number", 0.08, true, true},
		{"When", 0.2, false, false}, {"Who", 0.2, false, false}, {"What", 0.52, false, false}}}
	for _, step := range of.Steps {
		t.Rows = append(t.Rows, []string{strconv.Itoa(int(step.Seq)),
			step.At.In(of.At.Location()).Format("2 Jan 2006 15:04:05"), step.Who, step.What})
	}
	w := Table{Title: "Written to devices", Sheet: "Writes", Mark: -1, Columns: []Column{{"When", 0.16, false, false},
		{"Who", 0.16, false, false}, {"Point", 0.26, false, false}, {"Was", 0.1, true, true}, {"Written", 0.1, true, true},
		{"Unit", 0.06, false, false}, {"What came of it", 0.16, false, false}}}
	for _, each := range of.Writes {
		w.Rows = append(w.Rows, []string{each.At.In(of.At.Location()).Format("2 Jan 2006 15:04:05"), each.Who, each.Point,
			each.Old, each.New, each.Unit, each.Outcome})
	}
	for _, table := range []Table{t, w} {
		if len(table.Rows) > 0 {
			s.Tables = append(s.Tables, table)
		}
	}
	if len(s.Tables) == 0 {
		s.Says = "Nothing was changed since the site was begun."
	}
	return s
}
