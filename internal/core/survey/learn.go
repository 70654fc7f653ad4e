package survey

import (
	"fmt"
	"slices"

	"ferry/internal/core/diagnose"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/habit"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
)

// NoteManner returns the edit by which a manner of answering, by its code, that
// was found of the device of a link is noted in the limits of the device.
func NoteManner(now *site.Site, link, manner string) (site.Edit, *site.Device, error) {
	d, err := answering(now, link)
	if err != nil {
		return site.Edit{}, nil, err
	}
	if _, ok := exchange.MannersOf([]string{manner}); !ok {
		return site.Edit{}, nil, problem.New("no-manner", fmt.Sprintf("%q is no manner of answering.", manner),
			"Reload the page: it may be older than the program.").At(d.Name)
	}
	device := *d
	if device.Points = nil; !slices.Contains(d.Limits.Manners, manner) {
		device.Limits.Manners = append(slices.Clone(d.Limits.Manners), manner)
	}
	return site.Put(site.KindDevice, d.ID, "", device), d, nil
}

// NoteHabits returns the edit by which what was learned of the device of a link is
// noted in the limits of the device.
func NoteHabits(now *site.Site, link string, learned habit.Device) (site.Edit, *site.Device, error) {
	d, err := answering(now, link)
	if err != nil {
		return site.Edit{}, nil, err
	}
	if len(learned.Areas) == 0 && !learned.OneConnection {
		return site.Edit{}, nil, problem.New("nothing-learned",
			"Nothing has been found out of "+d.Name+" since Ferry started.", "Try its link, or run it.").At(d.Name)
	}
	device := *d
	device.Limits, device.Points = diagnose.Note(d, learned), nil
	return site.Put(site.KindDevice, d.ID, "", device), d, nil
}

// Learned is what a recording shows that a device bears, as what a run learns.
func Learned(b *finding.Bears) habit.Device {
	d := habit.Device{Areas: map[string]habit.Facts{}, OneConnection: b.OneConnection}
	if b.Most > 0 {
		d.Areas[b.Area] = habit.Facts{Most: b.Most}
	}
	for _, h := range b.Holes {
		facts := d.Areas[h.Area]
		facts.Holes = append(facts.Holes, habit.Run{From: h.From, To: h.From + h.Count})
		d.Areas[h.Area] = facts
	}
	return d
}

func answering(now *site.Site, link string) (*site.Device, error) {
	l := now.Link(link)
	if l == nil || now.Device(l.Answering) == nil {
		return nil, problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(link)
	}
	return now.Device(l.Answering), nil
}

// NoteThinking returns the edits by which the thinking times that were measured,
// by link, are taken over into the ports of their devices, one for each device,
// and how many links that are.
func NoteThinking(now *site.Site, measured map[string]site.Think) (edits []site.Edit, links int) {
	changed := map[string]*site.Device{}
	var order []string
	for i := range now.Links {
		l := &now.Links[i]
		think, ok := measured[l.ID]
		d := now.Device(l.Answering)
		if !ok || d == nil || d.PortFor(l) == nil {
			continue
		}
		device := changed[d.ID]
		if device == nil {
			copied := *d
			copied.Ports, copied.Points = slices.Clone(d.Ports), nil
			device = &copied
			changed[d.ID], order = device, append(order, d.ID)
		}
		think.MedianMs, think.WorstMs = hundredth(think.MedianMs), hundredth(think.WorstMs)
		device.PortFor(l).Think = &think
		links++
	}
	for _, id := range order {
		edits = append(edits, site.Put(site.KindDevice, id, "", changed[id]))
	}
	return edits, links
}

func hundredth(ms float64) float64 { return float64(int(ms*100+0.5)) / 100 }
