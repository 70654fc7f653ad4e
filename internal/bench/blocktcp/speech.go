// Package blocktcp is how a simulated controller lets its memory be read and
// written over ISO-on-TCP.
package blocktcp

import (
	"ferry/internal/bench"
	family "ferry/internal/core/family/blocktcp"
	wire "ferry/internal/wire/blocktcp"
	"ferry/internal/wire/isotcp"
)

func init() { bench.Register(family.Def.Name, speech{}) }

type speech struct{}

// Faults of a controller: each shows at another stop of the route.
func (speech) Faults() []bench.FaultKind {
	tcp := []bench.Place{bench.OverTCP}
	return []bench.FaultKind{
		{Kind: "slot", Title: "its processor sits in another slot: refused", Unit: "slot", Default: 3, Most: 31,
			Places: tcp},
		{Kind: "deaf", Title: "its processor sits in another slot: silent", Unit: "slot", Default: 3, Most: 31,
			Places: tcp},
		{Kind: "permission", Title: "does not permit remote access", Places: tcp},
		{Kind: "unloaded", Title: "a data block is not loaded", Unit: "block", Default: 1, Least: 1, Most: 65535,
			Places: tcp},
		{Kind: "layout", Title: "a data block has no fixed layout", Unit: "block", Default: 1, Least: 1, Most: 65535,
			Places: tcp},
		{Kind: "shortened", Title: "its data blocks end early", Unit: "octets", Default: 16, Most: 65535, Places: tcp},
		{Kind: "protected", Title: "its protection level forbids writing", Places: tcp},
		{Kind: "smaller", Title: "agrees to messages of 240 octets alone", Places: tcp},
		{Kind: "items", Title: "answers one item too few", Places: tcp},
		{Kind: "reference", Title: "answers with another reference", Places: tcp},
		{Kind: "endless", Title: "sends answers that do not end", Places: tcp},
	}
}

func (speech) Talk(of *bench.Simulated) bench.Talk { return &talk{device: of} }

// talk is one connection.
type talk struct {
	device    *bench.Simulated
	connected bool
	size      int // of a message, once the session is set up
}

func (t *talk) Length(came []byte) (int, error) { return wire.Frame(came) }

func (t *talk) Answer(request []byte, fault bench.Fault, _ int) (answer []byte, ends bool) {
	pdu, err := isotcp.ParseTPDU(request)
	if err != nil {
		return nil, true
	}
	if pdu.Kind == isotcp.ConnectRequest {
		return t.connect(&pdu, fault)
	}
	if pdu.Kind != isotcp.Data || !t.connected {
		return nil, true
	}
	m, err := wire.ParseMessage(pdu.Rest)
	if err != nil {
		return nil, true
	}
	if fault.Kind == "deaf" && t.size == 0 {
		return nil, false
	}
	if fault.Kind == "reference" && t.size > 0 {
		m.Ref += 7
	}
	answer = t.message(&m, fault)
	switch fault.Kind {
	case "garbage":
		answer = bench.Garbage(len(answer))
	case "short":
		answer = answer[:len(answer)-2]
	case "long":
		answer = append(answer, 0xDE, 0xAD)
	case "endless":
		if t.size > 0 && m.Kind == wire.Job && m.Params[0] == wire.Read {
			answer[6] = 0 // the last part does not come
			for range 300 {
				answer = append(answer, answer[:min(len(answer), 240)]...)
				if len(answer) > 1<<18 {
					break
				}
			}
		}
	}
	return answer, false
}

// connect takes a connection to the processor that there is.
func (t *talk) connect(pdu *isotcp.TPDU, fault bench.Fault) ([]byte, bool) {
	rack, slot := family.Def.Int(t.device.Settings, family.KeyRack), family.Def.Int(t.device.Settings, family.KeySlot)
	if fault.Kind == "slot" || fault.Kind == "deaf" {
		slot = fault.Value
	}
	if int(pdu.Called&0xFF) != rack*32+slot && fault.Kind != "deaf" {
		const addressUnknown = 3 // ISO 8073, clause 13.5.3
		return isotcp.AppendDisconnect(nil, addressUnknown), true
	}
	t.connected, t.size = true, 0
	return isotcp.AppendConfirm(nil, pdu.Calling, pdu.Called, isotcp.Size1024), false
}

func (t *talk) message(m *wire.Message, fault bench.Fault) []byte {
	refuse := func(code int) []byte { return wire.AppendRefusal(nil, m.Ref, byte(code>>8), byte(code)) }
	if m.Kind == wire.UserData {
		return t.about(m)
	}
	if m.Kind != wire.Job || len(m.Params) == 0 {
		return refuse(family.WrongState)
	}
	if m.Params[0] == wire.Setup {
		jobs, size, err := wire.ParseSetup(m)
		if err != nil {
			return refuse(family.TooLong)
		}
		if size = min(size, family.UsualSize); fault.Kind == "smaller" {
			size = family.LeastSize
		}
		t.size = size
		return wire.AppendSetupAnswer(nil, m.Ref, min(jobs, 1), size)
	}
	if t.size == 0 {
		return refuse(family.WrongState)
	}
	if fault.Kind == "permission" {
		return refuse(family.NotPermitted)
	}
	items, data, err := wire.ParseItems(m)
	if err != nil || len(items) == 0 || len(items) > family.MaxItems {
		return refuse(family.WrongState)
	}
	if m.Params[0] == wire.Write {
		codes := make([]byte, len(items))
		for i := range items {
			if codes[i] = family.Denied; fault.Kind != "protected" {
				codes[i] = t.write(&items[i], data[i], fault)
			}
		}
		return wire.AppendWriteAnswer(nil, m.Ref, codes)
	}
	given := make([]wire.Given, len(items))
	for i := range items {
		given[i] = t.read(&items[i], fault)
	}
	if fault.Kind == "items" && len(items) > 0 {
		items, given = items[:len(items)-1], given[:len(items)-1]
	}
	answer := wire.AppendReadAnswer(nil, m.Ref, items, given)
	if len(answer)-7 > t.size {
		return refuse(family.TooLong)
	}
	return answer
}

// there says why an item cannot be reached: family.Done where it can.
func (t *talk) there(it *wire.Item, fault bench.Fault) byte {
	number, isBlock := family.BlockOf(it.Area)
	if isBlock && number == fault.Value {
		switch fault.Kind {
		case "unloaded":
			return family.NoObject
		case "layout":
			return family.Denied
		}
	}
	count := max(it.Count, 1)
	if isBlock {
		if _, ok := t.device.Memory.Read(it.Area, 0, 1); !ok {
			return family.NoObject
		}
		if fault.Kind == "shortened" {
			count += fault.Value
		}
	}
	if _, ok := t.device.Memory.Read(it.Area, int(it.Start), count); !ok {
		if isBlock {
			return family.OutOfRange
		}
		// A controller has all its inputs, outputs and flags.
		if int(it.Start)+it.Count > imageBytes {
			return family.OutOfRange
		}
	}
	return family.Done
}

// imageBytes is how many inputs, outputs and flags a controller has, in bytes.
const imageBytes = 1024

func (t *talk) read(it *wire.Item, fault bench.Fault) wire.Given {
	if code := t.there(it, fault); code != family.Done {
		return wire.Given{Code: code}
	}
	octets, ok := t.device.Memory.Read(it.Area, int(it.Start), max(it.Count, 1))
	if !ok {
		octets = make([]byte, max(it.Count, 1))
		have, _ := t.device.Memory.Read(it.Area, int(it.Start), 1)
		copy(octets, have)
	}
	if it.Bit >= 0 {
		octets = []byte{octets[0] >> it.Bit & 1}
	}
	return wire.Given{Code: family.Done, Data: octets}
}

func (t *talk) write(it *wire.Item, data []byte, fault bench.Fault) byte {
	if code := t.there(it, fault); code != family.Done {
		return code
	}
	if it.Area == family.Inputs {
		return family.Denied
	}
	if it.Bit < 0 {
		if len(data) != it.Count || !t.device.Memory.Write(it.Area, int(it.Start), data) {
			return family.Unfitting
		}
		return family.Done
	}
	if len(data) != 1 || !t.device.Memory.Change(it.Area, int(it.Start), 1, func(b []byte) {
		b[0] = b[0]&^(1<<it.Bit) | data[0]&1<<it.Bit
	}) {
		return family.Unfitting
	}
	return family.Done
}

// about answers what is asked about the controller itself.
func (t *talk) about(m *wire.Message) []byte {
	const unknown = 0x8104
	asked, err := wire.ParsePart(m)
	if err != nil || !asked.Asks {
		return wire.AppendRefusal(nil, m.Ref, unknown>>8, unknown&0xFF)
	}
	if entry, ok := asked.AsksIdentity(); ok && t.device.Identity != "" {
		return wire.AppendPartAnswer(nil, m.Ref, &asked, 0, wire.IdentityData(entry, t.device.Identity))
	}
	if asked.AsksBlocks() {
		var numbers []int
		for _, area := range t.device.Memory.Areas() {
			if n, is := family.BlockOf(area); is {
				numbers = append(numbers, n)
			}
		}
		return wire.AppendPartAnswer(nil, m.Ref, &asked, 0, wire.BlocksData(numbers))
	}
	return wire.AppendPartAnswer(nil, m.Ref, &asked, unknown, nil)
}
