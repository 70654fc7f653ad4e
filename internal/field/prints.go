package field

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"

	"ferry/internal/core/site"
)

// print is what a runner was made from. The points are compared only where they
// are others than those that it was made with.
type print struct {
	rest   string
	device *site.Device
}

// same reports whether a runner made from p can go on as one made from q.
func (p print) same(q print) bool {
	if p.rest != q.rest || p.device == nil || q.device == nil {
		return false
	}
	return p.device.SharesPoints(q.device) || pointsPrint(p.device) == pointsPrint(q.device)
}

// printOf changes when anything changes that a runner is made from. What is only
// shown or remarked is no part of it: a run goes on undisturbed by that.
func (e *Engine) printOf(link *site.Link) print {
	var port *site.Port
	if asking := e.site.Device(link.Asking); asking != nil {
		port = asking.Port(link.Line)
	}
	line, device := e.site.Line(link.Line), e.site.Device(link.Answering)
	plain := *link
	plain.Remark = ""
	data, err := json.Marshal([]any{plain, device.Map, device.Limits, device.Ports, port, line.Format(), line.Here})
	if err != nil {
		return print{rest: err.Error()}
	}
	return print{string(data), device}
}

// pointsPrint changes when anything changes of how the points of a device are
// read.
func pointsPrint(device *site.Device) string {
	h := sha256.New()
	out := json.NewEncoder(h)
	for i := range device.Points {
		p := readOnly(&device.Points[i])
		p.PaceMs, p.Band, p.Access = device.Points[i].PaceMs, device.Points[i].Band, device.Points[i].Access
		if err := out.Encode(p); err != nil {
			return err.Error()
		}
	}
	return hex.EncodeToString(h.Sum(nil))
}

// readOnly is a point with what decides how its octets are read and written, and
// nothing else.
func readOnly(p *site.Point) site.Point {
	plain := *p
	plain.Name, plain.Unit, plain.Remark, plain.From, plain.PaceMs, plain.Access = "", "", "", nil, 0, ""
	plain.Decimals, plain.Low, plain.High, plain.ChangeMs, plain.Band, plain.Names = nil, nil, nil, 0, 0, nil
	return plain
}

// pointAt finds a point and its device. The lock is held.
func (e *Engine) pointAt(id string) (*site.Device, *site.Point) {
	if e.placesOf != e.site || e.places == nil {
		return e.site.Point(id)
	}
	at, ok := e.places[id]
	if !ok {
		return nil, nil
	}
	d := &e.site.Devices[at[0]]
	return d, &d.Points[at[1]]
}

// placesIn says where each point of a site is, where crossings look for many.
func placesIn(s *site.Site) map[string][2]int {
	if len(s.Crossings) < 8 {
		return nil
	}
	places := map[string][2]int{}
	for i := range s.Devices {
		for j := range s.Devices[i].Points {
			places[s.Devices[i].Points[j].ID] = [2]int{i, j}
		}
	}
	return places
}
