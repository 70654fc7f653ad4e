// Package opcua has a server stand in for real ones.
package opcua

import (
	"crypto/rsa"
	"crypto/tls"
	"errors"
	"fmt"
	"math"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/bench"
	"ferry/internal/certs"
	"ferry/internal/core/address"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/protocol"
	target "ferry/internal/target/opcua"
)

func init() { bench.Register(family.TCP.Name, speech{}) }

type speech struct{}

func (speech) Faults() []bench.FaultKind {
	tcp := []bench.Place{bench.OverTCP}
	return []bench.FaultKind{
		{Kind: "shift", Title: "was started again, and numbers its namespaces otherwise", Places: tcp},
		{Kind: "sessions", Title: "has as many sessions as it takes", Places: tcp},
		{Kind: "password", Title: "knows no such user", Places: tcp},
		{Kind: "quiet", Title: "says that there is nothing new, whatever there is", Places: tcp},
		{Kind: "mute", Title: "tells nothing more of subscriptions", Places: tcp},
		{Kind: "slow", Title: "publishes every five seconds at best", Places: tcp},
		{Kind: "uncertain", Title: "calls its values uncertain", Places: tcp},
		{Kind: "vanished", Title: "lacks the first of its nodes", Places: tcp},
		{Kind: "callers", Title: "over secured channels: it does not trust its clients", Places: tcp},
		{Kind: "few", Title: "takes few nodes with one request", Places: tcp},
		{Kind: "case", Title: "names its nodes in small letters", Places: tcp},
	}
}

// Talk is never asked for: the server is a host.
func (speech) Talk(*bench.Simulated) bench.Talk { return nil }

func (speech) Host(of *bench.Simulated, fault func() bench.Fault) (bench.Host, error) {
	h := &host{of: of, fault: fault, done: make(chan struct{})}
	h.server = target.New(target.Config{Variables: h.variables, Front: h.front, User: h.user, Refuse: h.refuse,
		Revise: h.revise, Silent: h.silent, Gone: h.gone, AtOnce: h.atOnce, Secured: h.secured,
		About: target.About{Manufacturer: "Ferry", Product: "Stand-in", Version: "1"}})
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
}

func (h *host) Take(c net.Conn) { h.server.Take(c) }

func (h *host) Close() error {
	close(h.done)
	h.others.Wait()
	return h.server.Close()
}

// watch starts the server again when what it has becomes another.
func (h *host) watch() {
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	kind, laid, was := h.numbered(), h.of.Memory.Laid(), h.look()
	for {
		select {
		case <-h.done:
			return
		case <-tick.C:
		}
		if kind == h.numbered() && laid == h.of.Memory.Laid() {
			continue
		}
		kind, laid = h.numbered(), h.of.Memory.Laid()
		if is := h.look(); is != was {
			was = is
			h.server.Renumber()
		}
	}
}

// numbered is the fault that numbers or names the nodes otherwise; empty for none.
func (h *host) numbered() string {
	if kind := h.fault().Kind; kind == "shift" || kind == "case" {
		return kind
	}
	return ""
}

// look is what the address space depends on.
func (h *host) look() string {
	var b strings.Builder
	b.WriteString(h.numbered())
	for _, held := range h.of.Memory.Held() {
		_, name, _ := held.Address.Name()
		b.WriteString("\n" + name + string(held.Shape.Type) + held.Unit + held.Remark + bounds(held) + fmt.Sprint(held.Names))
	}
	return b.String()
}

func bounds(held protocol.Held) string {
	if held.Low == nil || held.High == nil {
		return ""
	}
	return fmt.Sprint(" ", *held.Low, " ", *held.High)
}

// front are namespaces before those of the nodes: one, and another once it was started again.
func (h *host) front() []string {
	if h.fault().Kind == "shift" {
		return []string{"urn:ferry:stand-in", "urn:skerry:added"}
	}
	return []string{"urn:ferry:stand-in"}
}

func (h *host) user(name, password string) (may, writes bool) {
	return h.fault().Kind != "password" && (name == "" || name == password || name == "operator"), name != "looker"
}

func (h *host) refuse() ua.StatusCode {
	if h.fault().Kind == "sessions" {
		return ua.StatusBadTooManySessions
	}
	return ua.StatusOK
}

// identity is the certificate of all stand-ins, which nobody trusts at first, made anew in each
// process.
var identity = sync.OnceValue(func() *target.Secured {
	certificate, key, err := certs.Make("Hall supervisor", "urn:ferry:Stand-in", []string{"localhost", "127.0.0.1"},
		time.Now())
	if err != nil {
		return nil
	}
	pair, err := tls.X509KeyPair(certificate, key)
	if err != nil {
		return nil
	}
	private, _ := pair.PrivateKey.(*rsa.PrivateKey)
	return &target.Secured{Certificate: pair.Certificate[0], Key: private}
})

// secured is how the stand-in secures channels: it trusts whoever comes, unless that is what is
// wrong with it.
func (h *host) secured() *target.Secured {
	of := identity()
	if of == nil {
		return nil
	}
	mine := *of
	mine.Trusts = func([]byte) error {
		if h.fault().Kind == "callers" {
			return errors.New("its certificate is not among those that are trusted")
		}
		return nil
	}
	return &mine
}

func (h *host) silent() (news, life bool) {
	kind := h.fault().Kind
	return kind == "quiet" || kind == "mute", kind == "mute"
}

func (h *host) revise(ms float64) float64 {
	if h.fault().Kind == "slow" {
		return math.Max(ms, 5000)
	}
	return ms
}

// few is how many nodes it takes at once that takes few.
const few = 3

func (h *host) atOnce() int {
	if h.fault().Kind == "few" {
		return few
	}
	return math.MaxInt
}

func (h *host) gone(v *target.Variable) bool {
	if h.fault().Kind != "vanished" {
		return false
	}
	held := h.of.Memory.Held()
	if len(held) == 0 {
		return false
	}
	n, ok := family.NodeOf(held[0].Address)
	return ok && v.ID == n.ID
}

// variables are what the device of the map has; the elements of an array are one, and so are the
// fields of a structure.
func (h *host) variables() (list []target.Variable) {
	small, arrays, structures := h.fault().Kind == "case", map[family.Node]*array{}, map[family.Node]*structure{}
	for _, held := range h.of.Memory.Held() {
		n, ok := family.NodeOf(held.Address)
		kind, fits := target.Kinds[held.Shape.Type]
		if !ok || !fits || n.Element >= mostElements || n.Element >= 0 && n.Field != "" {
			continue
		}
		whole := n
		whole.Element, whole.Field = -1, ""
		if known := structures[whole]; n.Field != "" && known != nil {
			known.add(n.Field, held, kind)
			continue
		}
		if known := arrays[whole]; n.Element >= 0 && known != nil {
			known.add(n.Element, held)
			continue
		}
		v := target.Variable{URI: n.URI, ID: n.ID, Name: n.ID, Type: kind, Writable: held.Writable,
			Description: held.Remark, Unit: held.Unit, Low: held.Low, High: held.High, States: held.Names,
			Read: h.reads(held.Address, kind), Write: h.writes(held)}
		if n.Element >= 0 {
			a := &array{host: h, kind: kind}
			a.add(n.Element, held)
			arrays[whole] = a
			v.Writable, v.Write, v.Read, v.WriteAt = true, nil, a.read, a.writeAt
		}
		if n.Field != "" {
			s := &structure{host: h, at: len(list)}
			s.add(n.Field, held, kind)
			structures[whole] = s
			v = target.Variable{URI: n.URI, ID: n.ID, Name: n.ID, Type: ua.TypeIDExtensionObject, Read: s.read}
		}
		if v.URI == "" {
			v.URI = "urn:skerry:hall"
		}
		if small {
			v.ID, v.Name = strings.ToLower(v.ID), strings.ToLower(v.Name)
		}
		list = append(list, v)
	}
	for _, s := range structures {
		list[s.at].Fields = s.fields
	}
	return list
}

// reads returns how a place is read in the type of its node.
func (h *host) reads(at address.Address, kind ua.TypeID) func() *ua.DataValue {
	return func() *ua.DataValue {
		v, ok := h.of.Memory.Value(at)
		if !ok {
			return target.Bad(ua.StatusBadNodeIDUnknown)
		}
		return h.told(target.Typed(v, kind))
	}
}

// told is a value as the server tells of it.
func (h *host) told(v any) *ua.DataValue { return h.marked(target.Good(v)) }

// marked is a value with the status that the server gives it.
func (h *host) marked(out *ua.DataValue) *ua.DataValue {
	if h.fault().Kind == "uncertain" {
		out.EncodingMask |= ua.DataValueStatusCode
		out.Status = ua.StatusCode(family.UncertainLastUsable)
	}
	return out
}

// writes returns how a value is put to a place.
func (h *host) writes(held protocol.Held) func(target.By, any) ua.StatusCode {
	return func(_ target.By, v any) ua.StatusCode {
		plain, ok := target.Plain(v)
		if !ok {
			return ua.StatusBadTypeMismatch
		}
		if !h.of.Memory.Set(held.Address, plain) {
			return ua.StatusBadOutOfRange
		}
		return ua.StatusOK
	}
}
