// Package iec61850 has devices stand in for real ones of IEC 61850.
package iec61850

import (
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"ferry/internal/bench"
	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/value"
	target "ferry/internal/target/iec61850"
	wire "ferry/internal/wire/iec61850"
)

func init() { bench.Register(family.MMS.Name, speech{}) }

type speech struct{}

func (speech) Faults() []bench.FaultKind {
	tcp := []bench.Place{bench.OverTCP}
	return []bench.FaultKind{
		{Kind: "mute-reports", Title: "sends no reports", Places: tcp},
		{Kind: "questionable", Title: "calls its values questionable", Places: tcp},
		{Kind: "invalid", Title: "calls its values invalid", Places: tcp},
		{Kind: "guarded", Title: "takes no commands of this client", Places: tcp},
	}
}

// Talk is never asked for: a server is a host.
func (speech) Talk(*bench.Simulated) bench.Talk { return nil }

// every is how often a stand-in looks what has changed.
const every = 100 * time.Millisecond

func (speech) Host(of *bench.Simulated, fault func() bench.Fault) (bench.Host, error) {
	h := &host{of: of, fault: fault, done: make(chan struct{})}
	h.server = target.New(target.Config{Write: h.write, Silent: func() bool { return h.fault().Kind == "mute-reports" },
		About: wire.Identity{Vendor: "Skerry Point", Model: of.Identity, Revision: "1"}}, h.model())
	h.look()
	h.others.Go(h.watch)
	return h, nil
}

// host is a stand-in of a server.
type host struct {
	of     *bench.Simulated
	fault  func() bench.Fault
	server *target.Server
	done   chan struct{}
	others sync.WaitGroup

	mu  sync.Mutex
	ats map[string]*target.Attribute // by the references of the map

	// stands are the statuses that commands have set, by their references.
	stands sync.Map
}

func (h *host) Take(c net.Conn) { h.server.Take(c) }

func (h *host) Close() error {
	close(h.done)
	h.others.Wait()
	return h.server.Close()
}

// model is one of what the device has.
func (h *host) model() *family.Model {
	var list []family.Attribute
	for _, held := range h.of.Memory.Held() {
		list = append(list, family.Attribute{Address: held.Address, Type: held.Shape.Type, Remark: held.Remark})
	}
	ied := family.MMS.Value(h.of.Settings, family.KeyIED).Text()
	if ied == "" {
		ied = "IED1"
	}
	return family.Synthesised(ied, list)
}

// watch follows what the device has, and what stands there.
func (h *host) watch() {
	tick := time.NewTicker(every)
	defer tick.Stop()
	laid := h.of.Memory.Laid()
	for {
		select {
		case <-h.done:
			return
		case <-tick.C:
		}
		if is := h.of.Memory.Laid(); is != laid {
			laid = is
			h.server.Replace(h.model())
			h.mu.Lock()
			h.ats = nil
			h.mu.Unlock()
		}
		h.look()
	}
}

// look tells the server what stands in the memory now.
func (h *host) look() {
	quality, reason := value.Good, ""
	switch h.fault().Kind {
	case "questionable":
		quality, reason = value.Doubtful, "out of range"
	case "invalid":
		quality = value.Bad
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.ats == nil {
		h.ats = map[string]*target.Attribute{}
	}
	now := time.Now()
	for _, held := range h.of.Memory.Held() {
		r, ok := family.RefOf(held.Address)
		if !ok || r.FC == "CO" {
			continue
		}
		key := r.String()
		at := h.ats[key]
		if at == nil {
			at = h.server.At(r)
			h.ats[key] = at
		}
		v, there := h.of.Memory.Value(held.Address)
		if set, commanded := h.stands.Load(key); commanded {
			v, there = set.(value.Value)
		}
		if there && at != nil {
			h.server.Set(at, target.Value{Value: v, Quality: quality, Reason: reason, At: now})
		}
	}
}

// write takes a value, or a command, which is also what its status says then.
func (h *host) write(_ net.Conn, inst string, r family.Ref, v value.Value) (refused int, ends <-chan target.Ended) {
	if h.fault().Kind == "guarded" {
		return family.AccessDenied, nil
	}
	for _, held := range h.of.Memory.Held() {
		is, ok := family.RefOf(held.Address)
		if !ok || is.Item() != r.Item() || is.Device != inst && is.Device != r.Device {
			continue
		}
		if !held.Writable || !h.of.Memory.Set(held.Address, v) {
			return family.AccessValue, nil
		}
		if r.FC == "CO" {
			status := fmt.Sprintf("%s/%s.%s.stVal[ST]", is.Device, is.Node, strings.Split(strings.Join(is.Path, "."),
				".Oper")[0])
			h.stands.Store(status, v)
		}
		return -1, nil
	}
	return family.AccessDenied, nil
}
