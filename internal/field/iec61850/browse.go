package iec61850

import (
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	wire "ferry/internal/wire/iec61850"
)

// Browse looks into the server, a logical device, or a logical node, whose attributes are told with what
// stands in them.
func (c *conn) Browse(folder address.Address, from, most int) (f field.Folder, reply field.Reply) {
	reply = c.owned(func() field.Reply {
		_, name, _ := folder.Name()
		device, node, _ := strings.Cut(strings.TrimSuffix(name, "/"), "/")
		if device == "" {
			if _, reply := c.domain(""); !reply.OK() && len(c.domains) == 0 {
				return reply
			}
			for _, d := range c.domains {
				f.Entries = append(f.Entries, opens(family.FolderOf(d, ""), d))
			}
			return field.Reply{Outcome: exchange.Answered}
		}
		domain, reply := c.domain(device)
		if !reply.OK() {
			return reply
		}
		if node != "" {
			return c.looksInto(&f, domain, node, from, most)
		}
		items, reply := c.names(wire.Variables, domain)
		for _, item := range items {
			if !strings.Contains(item, "$") {
				f.Entries = append(f.Entries, opens(family.FolderOf(domain, item), item))
			}
		}
		return reply
	})
	if len(f.Entries) > most { // those of a logical node are no more than that
		all := f.Entries
		f.Entries, f.More = all[min(from, len(all)):min(len(all), from+most)], from+most < len(all)
	}
	return f, reply
}

func opens(at address.Address, name string) field.FolderEntry {
	return field.FolderEntry{Held: protocol.Held{Address: at, Name: name}, Opens: true}
}

// looksInto tells of the attributes of a logical node.
func (c *conn) looksInto(f *field.Folder, domain, node string, from, most int) field.Reply {
	t, reply := c.typeOf(wire.Name{Domain: domain, Item: node})
	if !reply.OK() {
		return reply
	}
	held := heldIn(domain, node, t)
	held, f.More = held[min(from, len(held)):min(len(held), from+most)], from+most < len(held)
	wanted := make([]protocol.Wanted, len(held))
	for i := range held {
		f.Entries = append(f.Entries, field.FolderEntry{Held: held[i], Holds: true})
		wanted[i] = protocol.Wanted{ID: strconv.Itoa(i), Address: held[i].Address}
	}
	samples, reply := c.items(wanted)
	for _, s := range samples {
		if i, err := strconv.Atoi(s.ID); err == nil {
			f.Entries[i].Value, f.Entries[i].Reason = s.Value, s.Reason
		}
	}
	return reply
}
