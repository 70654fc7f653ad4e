package crossing

import (
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/block"
	"ferry/internal/core/finding"
	"ferry/internal/core/site"
)

// place is one unit of a device, or one bit of it; or a place with a name.
type place struct {
	device, area string
	unit         uint32
	bit          int // one bit, or wholeUnit, or partOfUnit
}

const (
	wholeUnit  = -1
	partOfUnit = -2
)

// places lists what a point covers, and meets what others may cover that lies over
// it: two points of one place are known for it, two bits of a word are not.
func (c *checker) places(id string) (covers, meets []place) {
	at := c.ends[id]
	if at.point == nil {
		return nil, nil
	}
	scheme, err := at.device.SchemeOf(at.point)
	where := at.point.Place()
	area, ok := block.AreaOf(scheme, where.Area)
	if err != nil || !ok {
		covers = []place{{at.device.ID, at.point.Address.String(), 0, wholeUnit}}
		return covers, covers
	}
	from, bits, part := at.point.Bits(area.UnitBits)
	for unit := range uint32(at.point.Units(area.UnitBits)) {
		p := place{at.device.ID, where.Area, where.Offset + unit, wholeUnit}
		meets = append(meets, p)
		if !part {
			covers = append(covers, p)
			p.bit = partOfUnit
			meets = append(meets, p)
			continue
		}
		for p.bit = from; p.bit < from+bits; p.bit++ {
			covers, meets = append(covers, p), append(meets, p)
		}
		p.bit = partOfUnit
		covers = append(covers, p)
	}
	return covers, meets
}

// writable looks whether what is to be written can be. The access to a point that
// Ferry serves is that of its clients.
func (c *checker) writable(x *site.Crossing, to end, what string) {
	if to.point == nil || to.device.Served() {
		return
	}
	title := map[string]string{"target": "The target cannot be written", "quality": "The quality cannot be written",
		"source": "The source cannot be written, and it is to carry both ways"}[what]
	if to.point.Access == site.ReadOnly {
		c.add(x, finding.Fault, what+"-read-only", title,
			fmt.Sprintf("%s of %s is marked as only to be read.", to.point.Name, to.device.Name),
			"Give it access rw in its map, or choose another point.")
	}
	if scheme, err := to.device.SchemeOf(to.point); err == nil {
		if area, ok := block.AreaOf(scheme, to.point.Place().Area); ok && !area.Writable {
			c.add(x, finding.Fault, what+"-area", title,
				fmt.Sprintf("%s lies in the %s, which nobody can write.", to.point.Name, area.Title),
				"Choose another point.")
		}
	}
	if at := to.point.Place(); at.Area != "" {
		size, stated := to.device.Limits.Areas[at.Area]
		if stated && at.Offset >= size {
			c.add(x, finding.Fault, what+"-beyond", title,
				fmt.Sprintf("%s lies at %d, and %s has %d there.", to.point.Name, at.Offset, to.device.Name, size),
				"Correct the address, or how many the device has.")
		}
	}
}

func (c *checker) linked(x *site.Crossing) {
	told := map[string]bool{}
	for id := range x.Points {
		e := c.ends[id]
		if e.point == nil || e.device.Served() || told[e.device.ID] || c.site.LinkOf(e.device, e.point) != nil {
			continue
		}
		told[e.device.ID] = true
		c.add(x, finding.Fault, "no-link", "No link reaches "+e.device.Name,
			fmt.Sprintf("Nothing asks %s for %s, so the value cannot cross.", e.device.Name, e.point.Name),
			"Add a link to it under Lines, in the protocol of its map.")
	}
}

// missing tells of points that the far side was found not to have.
func (c *checker) missing(x *site.Crossing) {
	if c.seen.Missing == nil {
		return
	}
	for id := range x.Points {
		e := c.ends[id]
		if e.point == nil {
			continue
		}
		if why := c.seen.Missing(e.point); why != "" {
			c.add(x, finding.Fault, "not-there", e.point.Name+" is not on the far side",
				fmt.Sprintf("%s: %s", e, why), "Correct the name or the address, or have the far side make it.")
		}
	}
}

// written looks whether anything else writes where x does.
func (c *checker) written(x *site.Crossing) {
	targets := []string{x.To}
	if x.QualityTo != "" {
		targets = append(targets, x.QualityTo)
	}
	if x.Both != site.OneWay {
		targets = append(targets, x.From)
	}
	for _, id := range targets {
		covers, meets := c.places(id)
		for _, at := range meets {
			if other, twice := c.writers[at]; twice {
				c.add(x, finding.Fault, "two-writers", "Two crossings write one target",
					fmt.Sprintf("%s is also written from %s. The last one wins, by chance.", c.ends[id].point.Name,
						other),
					"Remove one of the two.")
				break
			}
		}
		for _, at := range covers {
			c.writers[at] = c.sourceOf(x)
		}
	}
}

// circle looks whether what x writes comes back to it. A crossing of both ways is
// none by itself.
func (c *checker) circle(x *site.Crossing) {
	if c.circled[x.ID] {
		return
	}
	seen := map[string]bool{x.ID: true}
	queue := [][]*site.Crossing{{x}} // paths that begin with x
	for len(queue) > 0 && len(seen) < 1000 {
		path := queue[0]
		queue = queue[1:]
		_, meets := c.places(path[len(path)-1].To)
		for _, at := range meets {
			for _, next := range c.reads[at] {
				if next == x && len(path) > 1 {
					c.circular(path)
					return
				}
				if seen[next.ID] {
					continue
				}
				seen[next.ID] = true
				queue = append(queue, append(slices.Clone(path), next))
			}
		}
	}
}

func (c *checker) circular(path []*site.Crossing) {
	by := make([]string, len(path)-1)
	for i, x := range path {
		c.circled[x.ID] = true
		if i > 0 {
			by[i-1] = c.ends[x.To].String()
		}
	}
	x := path[0]
	c.add(x, finding.Fault, "loop", "The crossing runs in a circle",
		fmt.Sprintf("What is written to %s comes back to %s, by way of %s.", c.ends[x.To].point.Name,
			c.ends[x.From].point.Name, strings.Join(by, ", ")), "Remove one crossing of the circle.")
}
