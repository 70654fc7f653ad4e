package crossing

import (
	"fmt"
	"regexp"
	"strings"

	"ferry/internal/core/block"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// unfed looks for points that Ferry serves and that never get a value: nothing
// crosses into them, and their clients may only read them. In tables clients are refused
// whatever touches one of them; what has a name of its own says that it has no value.
func (c *checker) unfed() {
	into := map[string]bool{}
	for i := range c.crossings {
		x := &c.crossings[i]
		into[x.To], into[x.QualityTo] = true, true
		into[x.From] = into[x.From] || x.Both != site.OneWay
	}
	for i := range c.site.Devices {
		d := &c.site.Devices[i]
		if !d.Served() {
			continue
		}
		names, count := []string{}, 0
		told := "who asks for one of them is told that it has none, or has what the file of the device says"
		for j := range d.Points {
			if p := &d.Points[j]; p.Access == site.ReadOnly && !into[p.ID] {
				if count++; count <= 8 {
					names = append(names, p.Name)
				}
				if p.Place().Area != "" {
					told = "who asks for one of them, or for a run that covers one, is refused"
				}
			}
		}
		if count == 0 {
			continue
		}
		c.found = append(c.found, finding.Finding{Code: "unfed", Severity: finding.Doubt, Sure: 1, Count: count,
			Where: "crossings", Subject: finding.Subject{Kind: "device", ID: d.ID, Device: d.ID, Name: d.Name},
			Title: "Nothing gives these points a value",
			Sentence: fmt.Sprintf("Nothing crosses into %d of the points that %s serves, and its clients may only "+
				"read them: %s.", count, d.Name, told),
			Evidence: names, Remedy: "Pair them, let clients write them, or take them out of its map."})
	}
}

// tells looks whether the far side can hold what is to be carried beside the value.
func (c *checker) tells(x *site.Crossing, to end) {
	if x.Tells == site.TellsValue {
		return
	}
	link := c.site.LinkOf(to.device, to.point)
	if link != nil && !to.device.Served() {
		if def, ok := protocol.Named(link.Protocol); ok && def.Notes(link.Settings, to.point.Address) {
			return
		}
	}
	c.add(x, finding.Doubt, "no-room", "The far side has no room for quality",
		fmt.Sprintf("%s holds the value of %s alone: its time and quality are not carried.", to.device.Name, to.point.Name),
		"Tell its quality to a point of its own, or have the link carry what has room for it.")
	c.out(Out{Title: "The value alone", Costs: "the far side does not see that a value is old",
		Crossing: changed(x, func(x *site.Crossing) { x.Tells = site.TellsValue })})
}

// secretWords are parts of names behind which secrets stand.
var secretWords = regexp.MustCompile(`(?i)(^|[^a-z])(password|passwd|passphrase|secret|token|api[-_ ]?key|bearer)([^a-z]|$)`)

// randomPart is a part of a name that nobody made up to be read: long, without a break,
// with letters and digits mixed.
var randomPart = regexp.MustCompile(`[A-Za-z0-9+]{24,}`)

// secret looks whether a far name holds what is to be kept: names are seen by whoever
// listens to all of them, and stand in logs.
func (c *checker) secret(x *site.Crossing, to end) {
	scheme, err := to.device.SchemeOf(to.point)
	if err != nil || len(block.AreasOf(scheme)) > 0 {
		return
	}
	name := scheme.Short(to.point.Address)
	found := secretWords.FindString(name)
	if part := randomPart.FindString(name); found == "" && strings.ContainsAny(part, "0123456789") &&
		strings.ContainsAny(strings.ToLower(part), "abcdefghijklmnopqrstuvwxyz") {
		found = part
	}
	if found != "" {
		c.add(x, finding.Doubt, "secret-in-name", "The far name may hold a secret",
			fmt.Sprintf("In %s, %q looks like a secret: whoever may listen there sees it, and it stands in logs.", name,
				strings.Trim(found, "/ ")), "Give the secret to the link, and the point a name without it.")
	}
}
