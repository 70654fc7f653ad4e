package exchange

// Frame is what went over a link in one direction at one time.
type Frame struct {
	// Out is set for what this end sent.
	Out bool `json:"out"`
	// AfterMs is when, in milliseconds after the beginning of its exchange.
	AfterMs float64 `json:"afterMs"`
	// Anew is set where the far end had ended the connection before it, and another was
	// opened.
	Anew bool `json:"anew,omitempty"`
	// Late is set where it answers an earlier question.
	Late bool `json:"late,omitempty"`
	// Datagram is set where it went beside the connection, as a packet of its own.
	Datagram bool   `json:"datagram,omitempty"`
	Octets   []byte `json:"-"`
}

// Sides puts the octets of each direction together, but those that are late.
func Sides(frames []Frame) (out, in []byte) {
	for _, f := range frames {
		if f.Late {
			continue
		}
		side := &in
		if f.Out {
			side = &out
		}
		if *side == nil {
			*side = f.Octets
		} else {
			*side = append((*side)[:len(*side):len(*side)], f.Octets...)
		}
	}
	return out, in
}

// Spread gives each frame the fields of its octets, out of those of all that went
// in its direction. A field that runs on into the next frame is in both.
func Spread(frames []Frame, out, in []Field) [][]Field {
	spread := make([][]Field, len(frames))
	passed := map[bool]int{}
	for i, f := range frames {
		if f.Late {
			spread[i] = []Field{{To: len(f.Octets), Label: "late", Role: "broken", Meaning: "answers an earlier question"}}
			continue
		}
		fields := in
		if f.Out {
			fields = out
		}
		from := passed[f.Out]
		to := from + len(f.Octets)
		spread[i] = []Field{}
		for _, field := range fields {
			if field.From >= to || field.To <= from {
				continue
			}
			field.From, field.To = max(field.From, from)-from, min(field.To, to)-from
			spread[i] = append(spread[i], field)
		}
		passed[f.Out] = to
	}
	return spread
}
