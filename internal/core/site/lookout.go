package site

import (
	"fmt"
	"net/mail"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// Lookout is a condition that is watched for while the site runs, and what is done
// when it begins and when it is over.
type Lookout struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	Sees Sees   `json:"sees" jsonschema:"enum=finding,enum=down,enum=limits,enum=still,enum=bad,enum=slow"`
	// Of is what it looks at: a line, a device, a link or a point, by its id; empty
	// for the whole site.
	Of string `json:"of,omitempty"`
	// Code of the findings that count, empty for every one; Notes has those count
	// too that are only worth knowing.
	Code  string `json:"code,omitempty"`
	Notes bool   `json:"notes,omitempty"`
	// Low and High are the limits of a value, in its unit; nil for none.
	Low  *float64 `json:"low,omitempty"`
	High *float64 `json:"high,omitempty"`
	// AboveMs is the time for an answer above which it is slow.
	AboveMs float64 `json:"aboveMs,omitempty" jsonschema:"minimum=0"`
	// ForMs is how long it has to be so to count, and EndMs how long it has to be over
	// to be over: what returns before that has not been away.
	ForMs int `json:"forMs" jsonschema:"minimum=0"`
	EndMs int `json:"endMs" jsonschema:"minimum=0"`
	// Sound has browsers sound; they always show a mark. Tell are the outlets that are
	// told, by their ids.
	Sound  bool     `json:"sound,omitempty"`
	Tell   []string `json:"tell,omitempty"`
	Off    bool     `json:"off,omitempty"`
	Remark string   `json:"remark,omitempty"`
}

// Sees is what a lookout looks for.
type Sees string

// What is looked for: a finding, a link that brings nothing, a value outside its
// limits, one that does not move, one that is not good, and answers that take long.
const (
	SeesFinding Sees = "finding"
	SeesDown    Sees = "down"
	SeesLimits  Sees = "limits"
	SeesStill   Sees = "still"
	SeesBad     Sees = "bad"
	SeesSlow    Sees = "slow"
)

// OfPoints reports whether it is points that are looked at.
func (s Sees) OfPoints() bool { return s == SeesLimits || s == SeesStill || s == SeesBad }

// Outlet is somebody who is told, or something.
type Outlet struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	Way  Way    `json:"way" jsonschema:"enum=mail,enum=webhook,enum=message,enum=program"`
	// To are the addresses that a mail goes to, From that from which it comes.
	To   []string `json:"to,omitempty"`
	From string   `json:"from,omitempty"`
	// Server is the host and the port of the mail server, Safe how it is spoken to.
	// User, and Secret by the name under which it is kept, are for a server that wants
	// them; the secret goes with a webhook too.
	Server string `json:"server,omitempty"`
	Safe   Safe   `json:"safe,omitempty" jsonschema:"enum=starttls,enum=tls"`
	User   string `json:"user,omitempty"`
	Secret string `json:"secret,omitempty"`
	// URL is where a webhook is posted to.
	URL string `json:"url,omitempty"`
	// Link is that over which a message goes, and Topic under which.
	Link  string `json:"link,omitempty"`
	Topic string `json:"topic,omitempty"`
	// Program is the name under which a program was allowed when Ferry was started.
	Program string `json:"program,omitempty"`
	// EveryS is the least time between two messages, in seconds: what happens in
	// between goes with the next.
	EveryS int  `json:"everyS" jsonschema:"minimum=0"`
	Off    bool `json:"off,omitempty"`
}

// Way is how an outlet is told.
type Way string

// The ways.
const (
	ByMail    Way = "mail"
	ByWebhook Way = "webhook"
	ByMessage Way = "message"
	ByProgram Way = "program"
)

// Safe says how a mail server is spoken to.
type Safe string

// Plain is without encryption, StartTLS begins it on the usual port, and TLS from the
// first octet on.
const (
	Plain    Safe = ""
	StartTLS Safe = "starttls"
	WithTLS  Safe = "tls"
)

// Bounds of what is looked out for.
const (
	MostLookouts = 1000
	MostOutlets  = 100
	longestWait  = 7 * 24 * 3600 * 1000 // milliseconds
	mostTo       = 50
)

// Lookout returns the lookout with the given id, or nil.
func (s *Site) Lookout(id string) *Lookout {
	if i := slices.IndexFunc(s.Lookouts, func(l Lookout) bool { return l.ID == id }); i >= 0 {
		return &s.Lookouts[i]
	}
	return nil
}

// Outlet returns the outlet with the given id, or nil.
func (s *Site) Outlet(id string) *Outlet {
	if i := slices.IndexFunc(s.Outlets, func(o Outlet) bool { return o.ID == id }); i >= 0 {
		return &s.Outlets[i]
	}
	return nil
}

// Links says which links a lookout looks at: those of a line or of a device, one
// alone, or all.
func (l *Lookout) Links(s *Site, yield func(*Link) bool) {
	for i := range s.Links {
		k := &s.Links[i]
		if l.Of != "" && l.Of != k.ID && l.Of != k.Line && l.Of != k.Answering {
			continue
		}
		if !yield(k) {
			return
		}
	}
}

func (v *validator) lookout(s *Site, points map[string]*Device, l *Lookout) {
	where := fmt.Sprintf("lookout %q", l.Name)
	v.identity(where, "lookout", l.ID, l.Name)
	if !slices.Contains([]Sees{SeesFinding, SeesDown, SeesLimits, SeesStill, SeesBad, SeesSlow}, l.Sees) {
		v.fail(where, fmt.Sprintf("what it looks for, %q, is nothing that can be looked for.", l.Sees),
			"Write finding, down, limits, still, bad or slow.")
	}
	isLink := s.Line(l.Of) != nil || s.Device(l.Of) != nil || s.Link(l.Of) != nil
	switch {
	case l.Sees.OfPoints() && points[l.Of] == nil && (l.Sees != SeesBad || s.Device(l.Of) == nil):
		v.fail(where, "the point that it looks at is not in the site.", "Choose a point.")
	case (l.Sees == SeesDown || l.Sees == SeesSlow) && l.Of != "" && !isLink:
		v.fail(where, "the line, device or link that it looks at is not in the site.",
			"Choose another, or leave it empty for the whole site.")
	case l.Sees == SeesFinding && l.Of != "" && !isLink && points[l.Of] == nil:
		v.fail(where, "what it looks at is not in the site.", "Choose something else, or leave it empty for the whole site.")
	}
	if l.Sees == SeesLimits {
		switch {
		case l.Low == nil && l.High == nil:
			v.fail(where, "it has no limits.", "Give a lowest or a highest value.")
		case l.Low != nil && l.High != nil && *l.Low >= *l.High:
			v.fail(where, "its lowest value is not below its highest.", "Give the lower one as the lowest.")
		}
	}
	if l.Sees == SeesSlow && !(l.AboveMs > 0 && l.AboveMs <= longestWait) {
		v.fail(where, "it does not say from which time on an answer is slow.", "Give milliseconds over 0.")
	}
	for _, ms := range []int{l.ForMs, l.EndMs} {
		if ms < 0 || ms > longestWait {
			v.fail(where, "its times are to be from 0 to 7 days.", "Give a time within that.")
		}
	}
	if l.Sees == SeesStill && l.ForMs < 1000 {
		v.fail(where, "a value that does not move needs a time for which it does not.", "Give a second or more.")
	}
	for _, id := range l.Tell {
		if s.Outlet(id) == nil {
			v.fail(where, fmt.Sprintf("the outlet %q that it tells is not in the site.", id), "Choose another, or none.")
		}
	}
}

func (v *validator) outlet(s *Site, o *Outlet) {
	where := fmt.Sprintf("outlet %q", o.Name)
	v.identity(where, "outlet", o.ID, o.Name)
	if o.EveryS < 0 || o.EveryS > 24*3600 {
		v.fail(where, "the least time between two messages is to be from 0 to 24 hours.", "Give a time within that.")
	}
	switch o.Way {
	case ByMail:
		v.mail(where, o)
	case ByWebhook:
		u, err := url.Parse(o.URL)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "" || u.User != nil {
			v.fail(where, fmt.Sprintf("%q is no address to post to.", o.URL),
				"Write http:// or https:// with a host; what it wants as a secret goes into its own field.")
		}
	case ByMessage:
		if k := s.Link(o.Link); k == nil {
			v.fail(where, "the link over which it is told is not in the site.", "Choose a link to a broker.")
		}
		if o.Topic == "" || len(o.Topic) > 500 || strings.ContainsAny(o.Topic, "#+\x00\r\n") {
			v.fail(where, fmt.Sprintf("%q is no topic to send to.", o.Topic), "Write one without #, + and line ends.")
		}
	case ByProgram:
		if o.Program == "" {
			v.fail(where, "it names no program.", "Name one that was allowed when Ferry was started, by --program NAME=PATH.")
		}
	default:
		v.fail(where, fmt.Sprintf("its way, %q, is none.", o.Way), "Write mail, webhook, message or program.")
	}
}

func (v *validator) mail(where string, o *Outlet) {
	at := strings.LastIndexByte(o.Server, ':')
	if n, err := strconv.Atoi(o.Server[at+1:]); at < 1 || err != nil || n < 1 || n > 65535 {
		v.fail(where, fmt.Sprintf("%q is no mail server.", o.Server), "Write its name or address with a port, such as "+
			"192.0.2.25:587.")
	}
	if !slices.Contains([]Safe{Plain, StartTLS, WithTLS}, o.Safe) {
		v.fail(where, fmt.Sprintf("%q is no way to speak to a mail server.", o.Safe),
			"Leave it empty, or write starttls or tls.")
	}
	if o.User != "" && o.Safe == Plain {
		v.fail(where, "a user's secret is not sent to a mail server without encryption.", "Choose STARTTLS or TLS.")
	}
	if len(o.To) == 0 || len(o.To) > mostTo {
		v.fail(where, fmt.Sprintf("a mail goes to 1 to %d addresses.", mostTo), "Give at least one.")
	}
	for _, address := range append([]string{o.From}, o.To...) {
		if a, err := mail.ParseAddress(address); err != nil || strings.ContainsAny(a.Address, "\r\n") {
			v.fail(where, fmt.Sprintf("%q is no mail address.", address), "Write it as name@host.")
		}
	}
}

// unwatch takes what is no longer there out of the lookouts: those that looked at it
// go with it.
func (a *applier) unwatch(id string) {
	for i := len(a.site.Lookouts) - 1; i >= 0; i-- {
		if a.site.Lookouts[i].Of == id {
			a.drop(KindLookout, a.site.Lookouts[i].ID, "")
		}
	}
	for i := len(a.site.Outlets) - 1; i >= 0; i-- {
		if a.site.Outlets[i].Link == id {
			a.removeOfOutlet(a.site.Outlets[i].ID)
			a.drop(KindOutlet, a.site.Outlets[i].ID, "")
		}
	}
}

// removeOfOutlet has lookouts no longer tell an outlet.
func (a *applier) removeOfOutlet(id string) {
	for _, l := range slices.Clone(a.site.Lookouts) {
		if slices.Contains(l.Tell, id) {
			l.Tell = slices.DeleteFunc(slices.Clone(l.Tell), func(t string) bool { return t == id })
			a.must(Put(KindLookout, l.ID, "", l))
		}
	}
}
