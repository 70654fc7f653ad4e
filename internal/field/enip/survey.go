package enip

import (
	"fmt"
	"time"

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

// Survey asks who the device is, how large its assemblies are, and which configuration it
// holds. What it does not tell is left out: many devices know nothing of it.
func (c *cyclic) Survey(deep bool) (told field.Told, reply field.Reply) {
	told.Settings = protocol.Settings{}
	reply = c.Question(true, func() field.Reply {
		a, failed := c.ask(&wire.Request{Service: wire.GetAll, Path: wire.PathTo(wire.ClassIdentity, 1, -1)}, nil)
		if failed != nil {
			return *failed
		}
		if id, _, err := wire.ParseWho(a.Data); err == nil && a.Status == 0 {
			k := family.Key{Vendor: int(id.Vendor), Type: int(id.Type), Product: int(id.Product), Major: int(id.Major),
				Minor: int(id.Minor)}
			told.Settings[family.KeyIdentity] = protocol.OfText(k.Text())
		}
		for key, instance := range map[string]string{family.KeyInOctets: family.KeyInInstance,
			family.KeyOutOctets: family.KeyOutInstance, family.KeyWantsSize: family.KeyConfigAt} {
			at := family.Cyclic.Int(c.settings, instance)
			if at == 0 {
				continue
			}
			size, data, failed := c.assembly(at, key == family.KeyWantsSize)
			if failed != nil {
				return *failed
			}
			if size >= 0 {
				told.Settings[key] = protocol.OfInt(size)
			}
			if key == family.KeyWantsSize {
				if told.Configuration = data; size > 0 {
					told.Settings[family.KeyWants] = protocol.OfText(family.ConfigData)
				}
			}
		}
		if deep {
			if failed := c.assemblies(&told); failed != nil {
				return *failed
			}
		}
		return field.Reply{Outcome: exchange.Answered, Left: true, Sentence: fmt.Sprintf("it tells %d settings",
			len(told.Settings))}
	})
	return told, reply
}

// assembly asks for the size of an assembly, or for its data where that does not help or
// they are wanted; a size of -1 and no data are what it does not tell.
func (c *cyclic) assembly(instance int, whole bool) (size int, data []byte, failed *field.Reply) {
	size = -1
	for _, attribute := range []int{assemblySize, assemblyData} {
		if attribute == assemblyData && size >= 0 && !whole {
			break
		}
		a, failed := c.ask(&wire.Request{Service: wire.GetSingle, Path: wire.PathTo(wire.ClassAssembly, instance,
			attribute)}, nil)
		switch {
		case failed != nil:
			return -1, nil, failed
		case a.Status != 0:
		case attribute == assemblySize && len(a.Data) == 2:
			size = int(le.Uint16(a.Data))
		case attribute == assemblyData && (size < 0 || size == len(a.Data)):
			size, data = len(a.Data), append([]byte{}, a.Data...)
		}
	}
	return size, data, nil
}

// Of looking for assemblies: instances of one octet, and how long that may take.
const (
	lastInstance = 255
	lookFor      = 20 * time.Second
)

// assemblies looks which instances there are: each that tells its data or its size. What is
// one for the plan depends on who sets it: each is offered for every use.
func (c *cyclic) assemblies(told *field.Told) *field.Reply {
	until := time.Now().Add(lookFor)
	for instance := 1; instance <= lastInstance && time.Now().Before(until); instance++ {
		size, _, failed := c.assembly(instance, false)
		switch {
		case failed != nil:
			return failed
		case size < 0:
			continue
		}
		at, octets := protocol.OfInt(instance), protocol.OfInt(size)
		for _, use := range []struct{ word, instance, octets string }{{"inputs", family.KeyInInstance, family.KeyInOctets},
			{"outputs", family.KeyOutInstance, family.KeyOutOctets}, {"configuration", family.KeyConfigAt,
				family.KeyWantsSize}} {
			if c.settings != nil && family.Cyclic.Int(c.settings, use.instance) == instance {
				continue // it is used so already
			}
			told.Offers = append(told.Offers, protocol.EndFix{Title: fmt.Sprintf("%d as %s", instance, use.word),
				Detail: fmt.Sprintf("%d octets", size), Ask: protocol.Settings{use.instance: at},
				Answer: protocol.Settings{use.instance: at, use.octets: octets}})
		}
	}
	return nil
}
