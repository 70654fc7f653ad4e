package diagnose

import (
	"fmt"
	"time"

	"ferry/internal/core/finding"
	"ferry/internal/core/site"
)

// Bounds of what is said of clocks: how far apart two may be, by how much the distance
// may vary from value to value, and how many values show it.
const (
	clocksApart = 2 * time.Minute
	clocksVary  = 5 * time.Second
	clocksShow  = 3
)

// Clock takes in by how much the time that came with a value is ahead of the clock here.
// A distance that stays the same from value to value is one of the clocks; one that
// grows is the age of an old value.
func (h *Habit) Clock(ahead time.Duration) {
	if (ahead-h.ahead).Abs() > clocksVary || ahead.Abs() < clocksApart {
		h.apart = 0
	}
	if h.ahead = ahead; ahead.Abs() >= clocksApart {
		h.apart++
	}
}

// Clocks reports that the times that a device gives are of a clock that goes otherwise.
func Clocks(device *site.Device, habits []Habit) []finding.Finding {
	shows, worst := 0, Habit{}
	for i := range habits {
		if habits[i].apart >= clocksShow {
			if shows++; habits[i].ahead.Abs() > worst.ahead.Abs() {
				worst = habits[i]
			}
		}
	}
	if shows == 0 {
		return nil
	}
	way, sure, title := "ahead of", 0.9, "The clock of "+device.Name+" goes otherwise"
	if worst.ahead < 0 { // or what it tells is that long on its way
		way, sure, title = "behind", 0.6, "The times of "+device.Name+" are old"
	}
	return []finding.Finding{{
		Code: "clocks-apart", Severity: finding.Doubt, Sure: sure, Count: shows, Where: "traffic",
		Subject: finding.Subject{Kind: "device", ID: device.ID, Name: device.Name},
		Title:   title,
		Sentence: fmt.Sprintf("The times that come with %d of its values are %s %s the clock of this machine, and stay so.",
			shows, worst.ahead.Abs().Round(time.Second), way),
		Remedy: "Set the clock that is wrong, and see where both get their time from. Times that are behind can also be those " +
			"of values that are always so long on their way.",
	}}
}
