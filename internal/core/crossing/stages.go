package crossing

import (
	"fmt"
	"math"

	"ferry/internal/core/finding"
	"ferry/internal/core/site"
)

// stages lists what makes a value old on its way, at worst.
func (c *checker) stages(x *site.Crossing) (stages []Stage, oldest, usually float64) {
	stages = []Stage{}
	add := func(title string, ms float64, share float64) {
		if ms > 0 {
			stages = append(stages, Stage{title, ms})
			oldest += ms
			usually += ms * share
		}
	}
	from, to := c.ends[x.From], c.ends[x.To]
	if link := c.site.LinkOf(from.device, from.point); link != nil && !from.device.Served() {
		if c.seen.OldestMs != nil {
			add("poll", c.seen.OldestMs(link.ID, x.From), 0.5)
		}
		if c.seen.ToldMs != nil {
			ms, paced := c.seen.ToldMs(link.ID, x.From)
			if paced {
				add("far end's look", float64(from.point.PaceMs), 0.5)
			}
			add("until told", ms, 0.5)
		}
	}
	if x.Round {
		add("rest of its round", float64(from.point.PaceMs), 0.5)
	}
	add("pace", float64(x.PaceMs), 0.5)
	add("between writes", float64(x.AtMostMs), 0.5)
	if c.seen.WriteMs != nil && !to.device.Served() {
		add("write", c.seen.WriteMs(x.To), 1)
	}
	if c.seen.OldestMs != nil && to.device.Served() {
		worst := 0.0
		for i := range c.site.Links {
			if l := &c.site.Links[i]; l.Answering == to.device.ID {
				worst = max(worst, c.seen.OldestMs(l.ID, x.To))
			}
		}
		add("far poll", worst, 0.5)
	}
	return stages, oldest, usually
}

func (c *checker) tooOld(x *site.Crossing, oldest float64) {
	if x.AllowMs > 0 && oldest > float64(x.AllowMs) {
		c.add(x, finding.Fault, "too-old", "It arrives too late",
			fmt.Sprintf("On the far shore the value can be %s old, and %s are allowed.", span(int(math.Ceil(oldest))),
				span(x.AllowMs)), "Ask the source at a faster pace, or carry it more often.")
	}
}
