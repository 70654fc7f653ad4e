package judge

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"ferry/internal/core/capture"
	"ferry/internal/core/finding"
)

// remarks follows what exchanges show besides their outcomes, by who answers.
type remarks map[netip.AddrPort]*remarked

type remarked struct {
	talk  *Talk
	kinds map[about]*proofs
	order []about
	// numbering is how the answerer numbered its names last.
	numbering string
}

// about is what remarks are counted by.
type about struct {
	kind capture.RemarkKind
	name string
}

// mostAbout bounds them.
const mostAbout = 200

func (r remarks) hear(j *Judge, c *capture.Conn, t *Talk, h *capture.Heard) {
	at := c.Ends[capture.Answerer]
	of := r[at]
	if of == nil {
		if len(r) >= mostHosts {
			return
		}
		of = &remarked{talk: t, kinds: map[about]*proofs{}, numbering: j.knew}
		r[at] = of
	}
	for _, remark := range h.Remarks {
		if remark.Kind == capture.Claimed {
			j.claims.hear(t, h, remark)
			continue
		}
		if remark.Kind == capture.Numbering {
			was := of.numbering
			if was == remark.Text {
				continue
			}
			of.numbering = strings.Clone(remark.Text)
			if len(j.numbered) < mostAbout {
				j.numbered = append(j.numbered, Numbered{h.Answered, of.numbering})
			}
			if was == "" {
				continue
			}
			remark.Text = moved(was, remark.Text)
		}
		key := about{remark.Kind, remark.Name}
		ps := of.kinds[key]
		if ps == nil {
			if len(of.kinds) >= mostAbout {
				continue
			}
			ps = &proofs{}
			key.name = strings.Clone(key.name)
			of.kinds[key] = ps
			of.order = append(of.order, key)
		}
		at := h.Answered
		if at.IsZero() {
			at = h.Asked
		}
		ps.add(proof{at: at, packets: [2]int64{h.AskedIn, h.AnsweredIn}, text: strings.Clone(remark.Text)})
	}
}

// moved says of lists of names, one to a line, which have another number now.
func moved(was, is string) string {
	numbers := map[string]int{}
	for i, name := range strings.Split(is, "\n") {
		numbers[name] = i
	}
	var parts []string
	for i, name := range strings.Split(was, "\n") {
		switch n, there := numbers[name]; {
		case !there:
			parts = append(parts, fmt.Sprintf("%s, which was %d, is gone", name, i))
		case n != i:
			parts = append(parts, fmt.Sprintf("%s, which was %d, is %d", name, i, n))
		}
	}
	if len(parts) == 0 {
		return "names were added at the end"
	}
	const most = 5
	if len(parts) > most {
		parts = append(parts[:most], fmt.Sprintf("and %d more", len(parts)-most))
	}
	return strings.Join(parts, "; ")
}

// remarkRules are what remarks are called, by their kinds: the title with the name of the end,
// the sentence with what it is about, how often, and who answers.
var remarkRules = map[capture.RemarkKind]struct {
	code     string
	severity finding.Severity
	sure     float64
	title    string
	sentence func(about, who, often string) string
	remedy   string
	other    string
	passes   bool // it says something of now alone
}{
	capture.Skipped: {"sequence-gap", finding.Fault, 0.95, "Messages of a subscription are missing",
		func(name, who, often string) string {
			return fmt.Sprintf("Of %s at %s a message was left out %s, and nobody fetched it: what is shown since may be old.",
				name, who, often)
		},
		"Have the client ask for what is missing, and look whether the server keeps messages long enough.", "", true},
	capture.Withheld: {"silent-subscription", finding.Fault, 0.9, "A subscription brings nothing",
		func(name, who, often string) string {
			return fmt.Sprintf("%s confirmed %s and does not tell what there is to tell: that was seen %s.", who, name, often)
		},
		"Read the nodes to have their values, open the session anew, and look into the log of the server: it has lost the " +
			"subscription, or what it watches the nodes by has stopped.", "The recording has not got all of that connection.",
		true},
	capture.Granted: {"granted-less", finding.Note, 1, "It reports more seldom than asked",
		func(name, who, often string) string {
			return fmt.Sprintf("%s revised what it was asked for in %s: values come later than whoever asks counts with.", who,
				name)
		},
		"Ask for what it grants, or have its shortest interval set. Count with it where something waits for the values.", "",
		false},
	capture.Uncertain: {"source-doubtful", finding.Doubt, 1, "It does not call its values good",
		func(name, who, often string) string {
			return fmt.Sprintf("%s tells of its own values: %s. That came %s.", who, name, often)
		},
		"The way here is well. Look behind the server: at the link to the device that the values come from, and at its sensor.",
		"", true},
	capture.Overrun: {"queue-overrun", finding.Doubt, 1, "Values were lost between two messages",
		func(name, who, often string) string {
			return fmt.Sprintf("In %s of %s there were more changes than it keeps for a message: that was seen %s, and values "+
				"between are missing.", name, who, often)
		},
		"Have it keep more values of a node, look at the node more seldom, or have it tell more often.", "", true},
	capture.Numbering: {"names-renumbered", finding.Note, 1, "It numbers its names otherwise",
		func(name, who, often string) string {
			return fmt.Sprintf("%s was started again and numbers its %s otherwise since: who kept nodes by those numbers gets "+
				"others, or none.", who, name)
		},
		"Keep nodes by the address of their namespace, as Ferry does. Have clients that keep numbers look them up anew.", "",
		false},
	capture.Restarted: {"restart-told", finding.Note, 1, "It says that it was started again",
		func(_, who, often string) string {
			return fmt.Sprintf("%s says that it was started again, %s: what it kept to be told may be gone, and what it was told to do "+
				"by itself has to be said anew.", who, often)
		},
		"Read everything anew after it, as Ferry does. Where it comes again and again, look at its supply and its log.",
		"", false},
	capture.Unset: {"clock-unset", finding.Doubt, 1, "Its clock wants to be set",
		func(_, who, often string) string {
			return fmt.Sprintf("%s asks for the time, and nobody sets it: that came %s. The times of what it tells are not to be trusted.",
				who, often)
		},
		"Have whoever asks set the clock, or the far end take the time from elsewhere and no longer ask for it.", "", true},
	capture.Troubled: {"trouble-told", finding.Doubt, 1, "It says that something is wrong with it",
		func(name, who, often string) string {
			return fmt.Sprintf("%s says of itself that %s: that came %s.", who, name, often)
		},
		"Look at the device itself: at its switches, and into its log.", "", true},
	capture.Baseless: {"no-baseline", finding.Doubt, 0.8, "Only changes are asked for",
		func(_, who, often string) string {
			return fmt.Sprintf("Of %s only what changes is fetched: what does not change was never told, and what was lost stays wrong. "+
				"That was seen %s.", who, often)
		},
		"Have everything read at the start, after a restart, and now and then besides.",
		"It was read before the recording began.", true},
	capture.Unfetched: {"changes-unfetched", finding.Doubt, 0.9, "Changes wait, and nobody fetches them",
		func(_, who, often string) string {
			return fmt.Sprintf("%s says %s that changes wait at it, and only what stands there now is asked for: what came and went "+
				"between is never seen, and no change has its time.", who, often)
		},
		"Have the classes of events polled, or enable that they are sent unasked.", "Another fetches them.", true},
	capture.Misaddressed: {"stations-differ", finding.Fault, 0.95, "It speaks to another than who asks",
		func(name, _, often string) string {
			return fmt.Sprintf("%s: that came %s. Both ends are set to other link addresses.", sentenceOf(name), often)
		},
		"Compare both link addresses at both ends: the far end's own, and the one that it takes for this end's.", "", true},
	capture.Rivalled: {"rival-askers", finding.Doubt, 0.9, "Two ask who do not know of each other",
		func(name, who, often string) string {
			return fmt.Sprintf("%s asks several: %s. What one fetches and confirms, the other never gets.", who, name)
		},
		"Leave it to one of them, or have the far end keep what it tells for each.", "", false},
	capture.Flooded: {"told-too-often", finding.Doubt, 0.95, "It says the same again and again",
		func(name, who, often string) string {
			return fmt.Sprintf("%s says %s many times a second: that was seen %s. It takes the time of all who hear it.", who, name, often)
		},
		"Look whether two routers join the same networks, so that what goes to all runs in circles, and what asks it again and again.", "", true},
}

// claims follows who says that a number is his which is to be one's alone, on all connections together.
type claims struct {
	by    map[string]*claim
	order []string
}

type claim struct {
	talk   *Talk
	who    []string
	proofs proofs
}

// mostClaimants bounds those of one number that are told of.
const mostClaimants = 5

func (c *claims) hear(t *Talk, h *capture.Heard, r capture.Remark) {
	of := c.by[r.Name]
	if of == nil {
		if len(c.by) >= mostHosts {
			return
		}
		if c.by == nil {
			c.by = map[string]*claim{}
		}
		name := strings.Clone(r.Name)
		of = &claim{talk: t}
		c.by[name], c.order = of, append(c.order, name)
	}
	if !slices.Contains(of.who, r.Text) && len(of.who) < mostClaimants {
		of.who = append(of.who, strings.Clone(r.Text))
	}
	if len(of.who) > 1 {
		at := h.Answered
		if at.IsZero() {
			at = h.Asked
		}
		of.talk = t
		of.proofs.add(proof{at: at, packets: [2]int64{h.AskedIn, h.AnsweredIn}, text: strings.Clone(r.Text)})
	}
}

func (c *claims) findings(j *Judge) (found []finding.Finding) {
	for _, name := range c.order {
		of := c.by[name]
		if len(of.who) < 2 {
			continue
		}
		f := finding.Finding{Code: "station-twice", Severity: finding.Fault, Sure: 0.97, Count: of.proofs.n,
			Subject: j.of(of.talk), Title: sentenceOf(name) + " is there twice",
			Sentence: fmt.Sprintf("%s is claimed by %s: questions for one go to either.", sentenceOf(name),
				strings.Join(of.who, " and by ")),
			Remedy: "Give one of them another number: it is one device's alone on all networks together.",
			Else:   "One of them may have been put in the place of the other while this was recorded."}
		f.Subject.Column = name
		of.proofs.into(&f)
		found = append(found, f)
	}
	return found
}

// sentenceOf is a clause with a capital at its beginning.
func sentenceOf(clause string) string {
	if clause == "" {
		return ""
	}
	return strings.ToUpper(clause[:1]) + clause[1:]
}

func (r remarks) findings(j *Judge) (found []finding.Finding) {
	for _, at := range sorted(r, netip.AddrPort.String) {
		of := r[at]
		for _, key := range of.order {
			rule, ps := remarkRules[key.kind], of.kinds[key]
			if rule.passes && ps.last.at.Before(j.since) {
				continue
			}
			f := finding.Finding{Code: rule.code, Severity: rule.severity, Sure: rule.sure, Count: ps.n,
				Subject: j.of(of.talk), Title: rule.title, Remedy: rule.remedy, Else: rule.other}
			f.Sentence = rule.sentence(key.name, f.Subject.Name, times(ps.n))
			f.Subject.Column = key.name
			ps.into(&f)
			found = append(found, f)
		}
	}
	return found
}
