package field

import (
	"context"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// Window is a run of registers as a device held them at one moment.
type Window struct {
	Area  string   `json:"area"`
	Start uint32   `json:"start"`
	Words []uint16 `json:"words"`
	AtMs  int64    `json:"atMs"`
}

// mostWindow bounds a window: what two requests bring.
const mostWindow = 250

// mostAsked bounds how often a device is asked to find the edges of what it
// answers within a window.
const mostAsked = 48

// ReadWindow reads registers around a place: of the run asked for, the part
// that the device answers and that holds the place at. Whatever it refuses is
// halved until its edge is found.
func (e *Engine) ReadWindow(ctx context.Context, deviceID, mapName, areaKey string, start uint32, count int,
	at uint32) (*Window, error) {
	link, def, area, err := e.reach(deviceID, mapName, areaKey)
	if err != nil {
		return nil, err
	}
	if area.UnitBits != 16 {
		return nil, problem.New("not-registers", "The "+area.Title+" are no registers.", "Fathom reads registers.")
	}
	if count < 1 || count > mostWindow || at < start || at >= start+uint32(count) ||
		int64(start)+int64(count) > int64(area.Units) {
		return nil, problem.New("bad-window", "The window is empty, too wide, or does not hold its own place.",
			"Give 1 to 250 registers around the point.")
	}
	words := map[uint32]uint16{}
	var refused Reply
	err = e.with(ctx, link.ID, func(r *runner, conn Conn, reply Reply) {
		if conn == nil {
			refused = reply
			return
		}
		w := windowReader{runner: r, def: def, area: area, words: words,
			most: regmap.Limit(r.device, area, def.Most(link.Settings))}
		w.read(conn, start, count)
		refused = w.refused
	})
	if err != nil {
		return nil, err
	}
	if _, ok := words[at]; !ok {
		return nil, problem.New("not-read", "The registers could not be read: "+refused.Sentence+".",
			"Check the address, or give a window that the device answers.").At(def.Scheme.Short(block.At(areaKey, at)))
	}
	from := at
	for from > start {
		if _, ok := words[from-1]; !ok {
			break
		}
		from--
	}
	window := &Window{Area: areaKey, Start: from, AtMs: time.Now().UnixMilli()}
	for ; from < start+uint32(count); from++ {
		word, ok := words[from]
		if !ok {
			break
		}
		window.Words = append(window.Words, word)
	}
	return window, nil
}

// reach finds the link that reads a device, in a protocol of the family named or
// any, its protocol and an area of it.
func (e *Engine) reach(deviceID, mapName, areaKey string) (*site.Link, *protocol.Def, block.Area, error) {
	s := e.Site()
	device := s.Device(deviceID)
	if device == nil {
		return nil, nil, block.Area{},
			problem.New("gone", "The device is no longer in the site.", "Reload to see what changed.").At(deviceID)
	}
	link := s.LinkIn(deviceID, mapName)
	if link == nil {
		return nil, nil, block.Area{},
			problem.New("no-link", "No link reaches "+device.Name+".", "Add one under Lines.").At(device.Name)
	}
	if def, _ := protocol.Named(link.Protocol); def != nil {
		if _, ranges := def.Ranges(); !ranges && len(def.Areas) > 0 {
			return nil, nil, block.Area{}, problem.New("comes-whole",
				"Over "+def.Title+" nothing is asked for: what is exchanged comes whole.",
				"Look at the octets of an exchange under Traffic.").At(device.Name)
		}
	}
	_, def, err := DriverOf(link.Protocol)
	if err != nil {
		return nil, nil, block.Area{}, problem.From(err, "protocol").At(device.Name)
	}
	area, ok := block.AreaOf(def.Scheme, areaKey)
	if !ok && areaKey != "" {
		return nil, nil, area, problem.New("no-area", "The protocol has no such area.", "").At(areaKey)
	}
	return link, def, area, nil
}

type windowReader struct {
	runner  *runner
	def     *protocol.Def
	area    block.Area
	words   map[uint32]uint16
	most    int
	asked   int
	refused Reply
}

func (w *windowReader) read(conn Conn, start uint32, count int) {
	if count > w.most {
		w.read(conn, start, w.most)
		w.read(conn, start+uint32(w.most), count-w.most)
		return
	}
	if w.asked++; w.asked > mostAsked || !conn.Usable() {
		return
	}
	began := time.Now()
	ranges := []block.Range{{Area: w.area.Key, Start: start, Count: count}}
	reply := Ask(conn, ranges)
	w.runner.note(ranges, &reply, began)
	switch {
	case reply.OK():
		for i := range count {
			w.words[start+uint32(i)] = uint16(reply.Data[2*i])<<8 | uint16(reply.Data[2*i+1])
		}
	case reply.Outcome == exchange.Declined && count > 1:
		w.read(conn, start, count/2)
		w.read(conn, start+uint32(count/2), count-count/2)
	default:
		w.refused = reply
	}
}

// note records a read that the timetable did not send, and takes in its parts if
// the data came.
func (r *runner) note(ranges []block.Range, reply *Reply, began time.Time, parts ...part) {
	e := r.exchange(r.rules.Operation(ranges), reply, began, time.Since(began))
	e.Ranges, e.Points = ranges, len(parts)
	if !reply.OK() {
		parts = nil
	}
	r.hub.record(r.era, e, parts)
}

// AskEdges asks a device for the units at the edges of its map and just outside
// them. Edges that failed otherwise than by being refused are left out.
func (e *Engine) AskEdges(ctx context.Context, deviceID, mapName string) ([]regmap.Edge, error) {
	link, def, _, err := e.reach(deviceID, mapName, "")
	if err != nil {
		return nil, err
	}
	edges := []regmap.Edge{}
	var lost *Reply
	err = e.with(ctx, link.ID, func(r *runner, conn Conn, reply Reply) {
		if conn == nil {
			lost = &reply
			return
		}
		for _, edge := range regmap.Edges(def.Scheme, r.device) {
			if !conn.Usable() {
				break
			}
			began := time.Now()
			ranges := []block.Range{{Area: edge.Area, Start: edge.Offset, Count: 1}}
			got := Ask(conn, ranges)
			r.note(ranges, &got, began)
			if edge.Answered = got.OK(); got.OK() || got.Outcome == exchange.Declined && r.rules.Absent(got.Code) {
				edges = append(edges, edge)
			} else {
				copied := got
				lost = &copied
			}
		}
	})
	if err == nil && lost != nil && len(edges) == 0 {
		err = problem.New("not-read", "The device could not be asked: "+lost.Sentence+".", "Try its link under Lines.")
	}
	return edges, err
}
