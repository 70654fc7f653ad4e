package diagnose

import (
	"cmp"
	"fmt"
	"slices"

	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// declined makes one finding for each error code and each place it came from.
func declined(recent []seen, subject finding.Subject, device *site.Device, def *protocol.Def) []finding.Finding {
	type place struct {
		code int
		op   string
	}
	counts := map[place]int{}
	asked := map[string]int{}
	var order []place
	lastAt := map[place]seen{}
	lastOf := map[string]exchange.Outcome{}
	for _, e := range recent {
		asked[e.op]++
		lastOf[e.op] = e.outcome
		if e.outcome != exchange.Declined {
			continue
		}
		p := place{e.code, e.op}
		if counts[p] == 0 {
			order = append(order, p)
		}
		counts[p]++
		lastAt[p] = e
	}
	byCode := map[int]*finding.Finding{}
	var codes []int
	for _, p := range order {
		why := def.Decline(p.code)
		f := byCode[p.code]
		if f == nil {
			of := subject
			if why.Finding == "" { // codes without a name of their own are told apart
				of.Column = fmt.Sprint(p.code)
			}
			f = &finding.Finding{
				Code: cmp.Or(why.Finding, "refused"), Severity: finding.Doubt, Sure: 1, Subject: of, Where: "traffic",
				Title:    fmt.Sprintf("%s answers: %s", device.Name, why.Title),
				Evidence: []string{}, Remedy: why.Causes,
			}
			if ranges, ok := def.Ranges(); ok && ranges.Absent(p.code) {
				if _, confused := def.Rules.(protocol.Tables); confused {
					f.Offers = finding.OfferEdges
				}
			}
			byCode[p.code] = f
			codes = append(codes, p.code)
		}
		f.Count += counts[p]
		if lastOf[p.op] == exchange.Declined {
			f.Severity = finding.Fault
		}
		f.Sentence = fmt.Sprintf("%s It said so %d times, code %d.", why.Means, f.Count, why.Sent(p.code))
		f.Evidence = append(f.Evidence,
			fmt.Sprintf("%s %s: %d of %d", clock(lastAt[p].at), p.op, counts[p], asked[p.op]))
	}
	// A device that answers with whatever code comes to its mind is one thing
	// that is wrong, not two hundred.
	slices.SortStableFunc(codes, func(a, b int) int { return cmp.Compare(byCode[b].Count, byCode[a].Count) })
	found := make([]finding.Finding, 0, min(len(codes), mostCodes+1))
	rest := finding.Finding{Code: "declined-otherwise", Severity: finding.Doubt, Sure: 1, Subject: subject,
		Where: "traffic",
		Title: device.Name + " answers with many error codes", Evidence: []string{},
		Remedy: "Look at the device itself: what answers so is hardly the device that was meant, or is out of order."}
	for i, code := range codes {
		f := byCode[code]
		if i < mostCodes {
			found = append(found, *f)
			continue
		}
		rest.Count += f.Count
		if rest.Sentence = fmt.Sprintf("Besides those named it answered with %d further codes.",
			i+1-mostCodes); f.Severity == finding.Fault {
			rest.Severity = finding.Fault
		}
	}
	if rest.Count > 0 {
		found = append(found, rest)
	}
	return found
}

// mostCodes is how many error codes of one device are findings of their own.
const mostCodes = 5
