package judge

import (
	"fmt"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/finding"
)

// proof is one thing that happened.
type proof struct {
	at      time.Time
	packets [2]int64 // 0 for none
	text    string
}

// mostProofs is how many of a kind are kept: the first ones, and the last.
const mostProofs = 4

// proofs counts what happened, and keeps the first few and the last.
type proofs struct {
	n    int
	kept []proof
	last proof
}

func (ps *proofs) add(p proof) {
	ps.n++
	if len(ps.kept) < mostProofs {
		ps.kept = append(ps.kept, p)
	}
	ps.last = p
}

// full reports whether a further proof would only replace the last.
func (ps *proofs) full() bool { return len(ps.kept) >= mostProofs }

func proofOf(h *capture.Heard, text string) proof {
	at := h.Asked
	if at.IsZero() {
		at = h.Answered
	}
	return proof{at: at, packets: [2]int64{h.AskedIn, h.AnsweredIn}, text: text}
}

// into puts the proofs into a finding.
func (ps *proofs) into(f *finding.Finding) {
	list := ps.kept
	if ps.n > len(ps.kept) {
		list = append(list[:len(list):len(list)], ps.last)
	}
	for _, p := range list {
		where := ""
		for _, n := range p.packets {
			if n == 0 {
				continue
			}
			f.Packets = append(f.Packets, n)
			if where == "" {
				where = fmt.Sprintf("packet %d", n)
			} else {
				where += fmt.Sprintf(" and %d", n)
			}
		}
		line := clock(p.at)
		if where != "" {
			line = where + ", " + line
		}
		if p.text != "" {
			line += ": " + p.text
		}
		f.Evidence = append(f.Evidence, line)
	}
}

func clock(t time.Time) string { return t.UTC().Format("15:04:05.000000") }

// times says how often.
func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// long prints a time as people say it.
func long(d time.Duration) string {
	switch {
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.1f ms", d.Seconds()*1e3)
	case d < time.Second:
		return fmt.Sprintf("%.0f ms", d.Seconds()*1e3)
	case d < 2*time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return fmt.Sprintf("%.0f min", d.Minutes())
}
