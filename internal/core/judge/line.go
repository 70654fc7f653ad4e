package judge

import (
	"fmt"

	"ferry/internal/core/finding"
)

// of is the subject of a talk.
func (j *Judge) of(t *Talk) finding.Subject {
	if t.Key.Line == "" {
		if list := j.plan.toAddress(t); len(list) == 1 {
			return finding.Subject{Kind: "link", ID: list[0].link.ID, Device: list[0].device.ID, Name: list[0].device.Name}
		}
		return j.subject(t.Key.Answerer, t.Key.Station)
	}
	if j.plan != nil {
		if list := j.plan.onLine(t.Key.Line, t.Key.Station); len(list) > 0 {
			return finding.Subject{Kind: "link", ID: list[0].link.ID, Device: list[0].device.ID, Name: list[0].device.Name}
		}
	}
	return finding.Subject{Kind: "address", ID: fmt.Sprintf("%s/%d", t.Key.Line, t.Key.Station),
		Name: fmt.Sprintf("%s %d", j.wordOf(t), t.Key.Station)}
}

// Name is how people call who answers a talk.
func (j *Judge) Name(t *Talk) string { return j.of(t).Name }

// onLine judges frames that do not pass, as they come over lines.
func (j *Judge) onLine(t *Talk, name, station string) (found []finding.Finding) {
	add := func(code string, severity finding.Severity, sure float64, ps *proofs, title, sentence, remedy, other string) {
		if ps.n == 0 {
			return
		}
		f := finding.Finding{Code: code, Severity: severity, Sure: sure, Count: ps.n, Subject: j.of(t), Title: title,
			Sentence: sentence, Remedy: remedy, Else: other}
		ps.into(&f)
		found = append(found, f)
	}
	share := func(ps *proofs) string {
		return fmt.Sprintf("%d of %d answers (%.1f %%)", ps.n, t.Asked, 100*float64(ps.n)/float64(max(t.Asked, 1)))
	}
	good := t.Answered + t.Declined
	spoilt := t.noise.n + t.check.n + t.torn.n
	// Now and then spoilt octets look like another format.
	if t.format.n > good || good == 0 && t.noise.n >= 3 && t.noise.n*2 > t.Asked {
		ps := t.format
		sure, other := 0.9, ""
		if ps.n == 0 {
			ps, sure, other = t.noise, 0.7, "Two devices have the same number and speak at once."
		}
		ps.n = t.format.n + t.noise.n
		add("wrong-serial-settings", finding.Fault, sure, &ps, name+" is set to another format",
			"Something answers, and no answer ever passes its check: "+share(&ps)+".",
			"Compare baud, parity and stop bits at both ends.", other)
		return found
	}
	add("duplicate-unit", finding.Fault, 0.8, &t.twice, "Two answers for "+name,
		fmt.Sprintf("%d questions were answered twice.", t.twice.n),
		fmt.Sprintf("Two devices have the same %s: take one off, and give it a number of its own.", station),
		"The gateway before it sends its answers twice.")
	severity := finding.Fault
	if spoilt*100 < t.Asked {
		severity = finding.Doubt
	}
	spoilt += t.format.n
	noisy := t.noise.n + t.format.n
	switch {
	case t.twice.n*4 > spoilt && t.twice.n > 2:
		// Two who speak at once spoil what each says.
	case noisy > 0 && noisy*2 >= spoilt:
		ps := t.noise
		if ps.n == 0 {
			ps = t.format
		}
		ps.n = spoilt
		add("noise", severity, 0.8, &ps, "Noise spoils answers of "+name, share(&ps)+" came spoilt.",
			"Look at termination, bias, shield and earth of the line, and at what is switched near it.",
			"Two speak at the same time.")
	default:
		add("check-failed", severity, 0.9, &t.check, "Answers of "+name+" fail their check",
			share(&t.check)+" have the right length and wrong octets.",
			"Look at termination, bias, shield and earth of the line, and at what is switched near it.", "")
		add("frame-torn", severity, 0.8, &t.torn, "Answers of "+name+" break off",
			share(&t.torn)+" begin as they should, and the rest does not come.",
			"Octets are lost on the way: look at the adapter or gateway, its buffers, and at termination.", "")
	}
	if t.close.n >= 5 && t.close.n*4 > t.Asked {
		add("no-silence-between-frames", finding.Doubt, 0.7, &t.close, "Questions to "+name+" follow without a silence",
			fmt.Sprintf("%d of %d questions begin at once behind the frame before, and the standard wants 3.5 characters of "+
				"silence, at least 1.75 ms above 19 200 baud: a device may take both for one.", t.close.n, t.Asked),
			"Have the asking end wait before each question; in an adapter or gateway, lengthen the time between frames.",
			"The recorder hands on what came together: compare with its latency.")
	}
	// Once in a while it is the recorder that paused.
	if t.parted.n >= 3 || t.parted.n*4 > good {
		add("in-pieces", finding.Doubt, 0.9, &t.parted, "Answers of "+name+" come in pieces",
			share(&t.parted)+" are right and have a pause inside, by which the standard lets a frame be lost.",
			"Look at the device's load, or at the adapter between: another asker will not take such answers.",
			"The machine that recorded was busy.")
	}
	add("echo", finding.Note, 0.9, &t.echo, "The adapter hears what it sends",
		fmt.Sprintf("%d questions came back at once, before their answer.", t.echo.n),
		"Switch the echo off in the adapter, or have the asking end skip it.", "")
	add("collision", finding.Fault, 0.7, &t.collision, "Two speak at once when "+name+" answers",
		fmt.Sprintf("%d times something came before the right answer.", t.collision.n),
		"Look for a second asker on the line, and for two devices of one number.", "Noise on the line.")
	return found
}
