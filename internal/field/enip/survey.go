package enip

import (
	"fmt"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	wire "ferry/internal/wire/enip"
)

// Attributes of the assembly object (volume 1, clause 5A-5.2).
const (
	assemblyData = 3
	assemblySize = 4
)

// Survey asks who the device is and how large its assemblies are. What it does not tell
// is left out: many devices know neither.
func (c *cyclic) Survey() (protocol.Settings, field.Reply) {
	told := protocol.Settings{}
	reply := c.Question(true, func() field.Reply {
		a, failed := c.ask(&wire.Request{Service: wire.GetAll, Path: wire.PathTo(wire.ClassIdentity, 1, -1)}, nil)
		if failed != nil {
			return *failed
		}
		if id, _, err := wire.ParseWho(a.Data); err == nil && a.Status == 0 {
			k := family.Key{Vendor: int(id.Vendor), Type: int(id.Type), Product: int(id.Product), Major: int(id.Major), Minor: int(id.Minor)}
			told[family.KeyIdentity] = protocol.OfText(k.Text())
		}
		for key, instance := range map[string]string{family.KeyInOctets: family.KeyInInstance, family.KeyOutOctets: family.KeyOutInstance} {
			size, failed := c.sizeOf(family.Cyclic.Int(c.settings, instance))
			if failed != nil {
				return *failed
			}
			if size >= 0 {
				told[key] = protocol.OfInt(size)
			}
		}
		return field.Reply{Outcome: exchange.Answered, Left: true, Sentence: fmt.Sprintf("it tells %d settings", len(told))}
	})
	return told, reply
}

// sizeOf asks for the size of an assembly, or for its data; -1 where it tells neither.
func (c *cyclic) sizeOf(instance int) (size int, failed *field.Reply) {
	for _, attribute := range []int{assemblySize, assemblyData} {
		a, failed := c.ask(&wire.Request{Service: wire.GetSingle, Path: wire.PathTo(wire.ClassAssembly, instance, attribute)}, nil)
		switch {
		case failed != nil:
			return -1, failed
		case a.Status != 0:
		case attribute == assemblyData:
			return len(a.Data), nil
		case len(a.Data) == 2:
			return int(le.Uint16(a.Data)), nil
		}
	}
	return -1, nil
}
