package blocktcp

import (
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/blocktcp"
	"ferry/internal/field"
	wire "ferry/internal/wire/blocktcp"
)

// Read asks for runs of memory, in as many messages as what was agreed needs:
// one, where the size that was planned with holds.
func (c *conn) Read(ranges []block.Range) field.Reply {
	return c.Question(true, func() field.Reply { return c.read(ranges) })
}

func (c *conn) read(ranges []block.Range) field.Reply {
	c.data, c.refused = c.data[:0], c.refused[:0]
	room := family.RoomOf(c.size)
	anyRefused := false
	reply := field.Reply{Outcome: exchange.Answered}
	for at, within := 0, 0; at < len(ranges); {
		// As many of what is left as one message holds; within is what was asked
		// for already of the first.
		began := within
		out, in := 0, 0
		c.items = c.items[:0]
		for at < len(ranges) && len(c.items) < room.Ranges && out+room.OutEach <= room.Out {
			r := ranges[at]
			r.Start, r.Count = r.Start+uint32(within), r.Count-within
			left := room.In - in - room.InEach
			if r.Count > left {
				if len(c.items) > 0 || left <= 0 {
					break
				}
				r.Count = left
			}
			c.items = append(c.items, wire.Item{Range: r, Bit: -1})
			out, in = out+room.OutEach, in+room.InEach+r.Count+r.Count%2
			if within += r.Count; within < ranges[at].Count {
				break
			}
			at, within = at+1, 0
		}
		c.ref++
		c.Request = wire.AppendRead(c.Request[:0], c.ref, c.items)
		m, failed := c.ask(nil)
		if failed != nil {
			return *failed
		}
		var codes []int
		var err error
		if c.data, codes, err = wire.ParseRead(c.data, &m, c.items, nil); err != nil {
			return c.Garbled(err)
		}
		for i := range c.items {
			code := 0
			if codes != nil {
				code = codes[i]
			}
			anyRefused = anyRefused || code != 0
			if i == 0 && began > 0 { // the rest of a range that was divided
				if k := len(c.refused) - 1; c.refused[k] == 0 {
					c.refused[k] = code
				}
				continue
			}
			c.refused = append(c.refused, code)
		}
	}
	reply.Data, reply.Left, reply.LateMs = c.data, true, c.Late
	if anyRefused {
		if len(ranges) == 1 {
			return c.declined(c.refused[0])
		}
		reply.Refused = c.refused
		reply.Sentence = c.refusals()
	}
	return reply
}

// refusals says how many ranges were refused, and with what code most of all.
func (c *conn) refusals() string {
	n, last := 0, 0
	for _, code := range c.refused {
		if code != 0 {
			n, last = n+1, code
		}
	}
	return fmt.Sprintf("%d of %d items were refused: %s", n, len(c.refused), family.Def.Decline(last).Title)
}

var greeting = []block.Range{{Area: family.Flags, Count: 1}}

// Greet asks for the first byte of the flags.
func (c *conn) Greet() field.Reply { return c.Read(greeting) }

// Write writes whole bytes, or one bit where the address has one.
func (c *conn) Write(to address.Address, data []byte, pass field.Pass) field.Reply {
	if pass == nil {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: "nobody let it go"}
	}
	at := block.Of(to)
	return c.Question(false, func() field.Reply { return c.write(at, data, pass) })
}

func (c *conn) write(at block.Place, data []byte, pass field.Pass) field.Reply {
	it := wire.Item{Range: block.Range{Area: at.Area, Start: at.Offset, Count: len(data)}, Bit: at.Bit}
	if most := family.RoomOf(c.size).Out - 16; len(data) > most {
		return field.Reply{Outcome: exchange.NotAllowed,
			Sentence: fmt.Sprintf("a message holds %d octets of a value, and it has %d", most, len(data))}
	}
	c.ref++
	c.Request = wire.AppendWrite(c.Request[:0], c.ref, it, data)
	m, failed := c.ask(pass)
	if failed != nil {
		return *failed
	}
	code, err := wire.ParseWrite(&m)
	switch {
	case err != nil:
		return c.Garbled(err)
	case code != family.Done:
		return c.declined(int(code))
	}
	return field.Reply{Outcome: exchange.Answered, Left: true}
}

// Identify asks for the type and the name of the module.
func (c *conn) Identify() (text, by string, reply field.Reply) {
	reply = c.Question(false, func() field.Reply {
		text, by, reply = c.identify()
		return reply
	})
	return text, by, reply
}

func (c *conn) identify() (text, by string, reply field.Reply) {
	by = "the list of its identity"
	for _, entry := range []int{wire.IdentityType, wire.IdentityName} {
		c.ref++
		c.Request = wire.AppendIdentify(c.Request[:0], c.ref, entry)
		m, failed := c.ask(nil)
		if failed != nil {
			return text, by, *failed
		}
		reply = field.Reply{Outcome: exchange.Answered, Left: true}
		part, err := wire.ParsePart(&m)
		if err != nil {
			return text, by, c.Garbled(err)
		}
		if said, ok := wire.ParseIdentity(part.Data); ok && part.Error == 0 && said != text {
			if text != "" {
				text += ", "
			}
			text += said
		}
	}
	return text, by, reply
}

// mostBlocks bounds the parts in which a list of blocks comes.
const mostBlocks = 64

// blocks asks for the numbers of the data blocks; ok is false where the device
// does not tell.
func (c *conn) blocks() (numbers []int, ok bool) {
	c.ref++
	c.Request = wire.AppendBlocks(c.Request[:0], c.ref)
	for range mostBlocks {
		m, failed := c.ask(nil)
		if failed != nil {
			return nil, false
		}
		part, err := wire.ParsePart(&m)
		if err != nil || part.Error != 0 {
			return nil, false
		}
		if numbers = append(numbers, wire.ParseBlocks(part.Data)...); !part.More {
			return numbers, true
		}
		c.ref++
		c.Request = wire.AppendMore(c.Request[:0], c.ref, &part)
	}
	return nil, false
}

// Explain tells a block that is not there from one without a fixed layout, and
// says where a block ends that is shorter than the map has it.
func (c *conn) Explain(r block.Range, code int) (e field.Explanation) {
	number, isBlock := family.BlockOf(r.Area)
	if !isBlock {
		return e
	}
	switch code {
	case family.OutOfRange:
		if end, ok := c.end(r.Area); ok {
			return field.Explanation{
				Saw: fmt.Sprintf("Data block %d ends with byte %d, and the map has values up to byte %d.", number,
					end-1, int(r.Start)+r.Count-1),
				Remedy: "Its layout was changed since the list was made, or the number is that of another block: " +
					"export the declarations anew and " +
					"compare them with the map.",
			}
		}
	case family.NoObject, family.Denied:
		numbers, told := c.blocks()
		switch {
		case !told:
		case slices.Contains(numbers, number):
			return field.Explanation{
				Saw: fmt.Sprintf("The controller lists data block %d and does not let it be addressed.", number),
				Remedy: "Give the block a fixed layout and load it: without one its offsets are not there. If it " +
					"has one, look at the protection level.",
				Access: []string{"layout", "remote"},
			}
		case len(numbers) == 0:
			return field.Explanation{
				Saw:    "The controller lists no data blocks at all.",
				Remedy: "Load the program, and compare rack and slot: another processor may answer there.",
				Access: []string{"mode"},
			}
		default:
			slices.Sort(numbers)
			shown := fmt.Sprint(numbers[:min(len(numbers), 12)])
			return field.Explanation{
				Saw: fmt.Sprintf("The controller has no data block %d; it lists %s.", number,
					strings.Trim(shown, "[]")),
				Remedy: "Compare the number with the program, and load the block if it is new.",
				Access: []string{"mode"},
			}
		}
	}
	return e
}

// Size tells how large a data block is; inputs, outputs and flags are as large
// as the controller's image.
func (c *conn) Size(area string) (units int, ok bool) {
	if _, is := family.BlockOf(area); !is {
		return 0, false
	}
	return c.end(area)
}

// end finds out how many bytes an area has.
func (c *conn) end(area string) (bytes int, ok bool) {
	there := func(at int) bool {
		reply := c.Read([]block.Range{{Area: area, Start: uint32(at), Count: 1}})
		ok = reply.OK() || reply.Outcome == exchange.Declined
		return reply.OK()
	}
	if !there(0) {
		return 0, false
	}
	low, high := 0, 1<<16 // low is there, high is not
	for low+1 < high {
		middle := (low + high) / 2
		if there(middle) {
			low = middle
		} else if high = middle; !ok {
			return 0, false
		}
	}
	return low + 1, true
}
