package site

import (
	"fmt"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/layout"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Datasheet is a reusable map for a device model: everything the manual lists,
// with the useful part marked.
type Datasheet struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Remark string `json:"remark,omitempty"`
	// Map names the protocol whose addressing the points use.
	Map    string `json:"map"`
	Limits Limits `json:"limits,omitzero"`
	// ThinkMs is how long the manual says that the device needs for an answer.
	ThinkMs int `json:"thinkMs,omitempty"`
	// Access is what must be switched on before the device answers.
	Access []AccessLine `json:"access,omitempty"`
	Points []SheetPoint `json:"points"`
}

// SheetPoint is a point of a datasheet. Its name and address are those of the
// manual; a placement adds a prefix to the one and a shift to the other.
type SheetPoint struct {
	Point
	Useful bool `json:"useful,omitempty"`
}

// Structure is the type of structured points.
type Structure struct {
	ID      string   `json:"id"`
	Name    string   `json:"name"`
	Remark  string   `json:"remark,omitempty"`
	Members []Member `json:"members"`
}

// Member is one part of a structure: a value, or another structure.
type Member struct {
	Name string `json:"name"`
	// Type of an elementary member; empty where Structure names another.
	Type   value.Type `json:"type,omitempty"`
	Length int        `json:"length,omitempty"`
	// Padding of a text, as of a point.
	Padding   value.Padding `json:"padding,omitempty" jsonschema:"enum=space,enum=counted"`
	Structure string        `json:"structure,omitempty"`
	// Count makes an array of so many elements, numbered from First; More are its
	// further dimensions.
	Count int          `json:"count,omitempty"`
	First int          `json:"first,omitempty"`
	More  []layout.Dim `json:"more,omitempty"`
	// Reserve elements take their room and become no points.
	Reserve bool        `json:"reserve,omitempty"`
	Order   value.Order `json:"order,omitempty"`
	Factor  float64     `json:"factor,omitempty"`
	Unit    string      `json:"unit,omitempty"`
	Names   []Naming    `json:"names,omitempty"`
	Remark  string      `json:"remark,omitempty"`
}

// Placement is a datasheet or a structure put into the map of a device.
type Placement struct {
	ID string `json:"id"`
	// Datasheet or Structure is what was placed.
	Datasheet string `json:"datasheet,omitempty"`
	Structure string `json:"structure,omitempty"`
	// Prefix stands before the name of every point.
	Prefix string `json:"prefix,omitempty"`
	// Shift is added to every address of a datasheet, in units.
	Shift int `json:"shift,omitempty"`
	// Area and Start are where a structure begins, Rule how it is laid out,
	// PaceMs and Access what its points get; a PaceMs over 0 is also that of all
	// points of a datasheet, in the place of their own.
	Area   string      `json:"area,omitempty"`
	Start  uint32      `json:"start,omitempty"`
	Rule   layout.Rule `json:"rule,omitempty"`
	PaceMs int         `json:"paceMs,omitempty"`
	Access Access      `json:"access,omitempty"`
	// All is set where every point was placed, not only the useful ones.
	All bool `json:"all,omitempty"`
	// Map names the protocol in whose addressing a structure is placed, where that
	// is not the one of the device.
	Map string `json:"map,omitempty"`
}

// Headings is a table whose columns were recognised, so that the next file of
// that shape is read the same way.
type Headings struct {
	ID string `json:"id"`
	// Words are the headings as they stand in the source.
	Words []string `json:"words"`
	// Columns says what each was taken for, "" for one that is left out.
	Columns []string `json:"columns"`
}

// Datasheet returns the datasheet with the given id, or nil.
func (s *Site) Datasheet(id string) *Datasheet {
	for i := range s.Datasheets {
		if s.Datasheets[i].ID == id {
			return &s.Datasheets[i]
		}
	}
	return nil
}

// Structure returns the structure with the given id, or nil.
func (s *Site) Structure(id string) *Structure {
	for i := range s.Structures {
		if s.Structures[i].ID == id {
			return &s.Structures[i]
		}
	}
	return nil
}

// Laid returns the structure t as the layout rules need it, with every nested
// structure in its place. A structure inside itself stays a loop, which Lay
// reports.
func (s *Site) Laid(t *Structure) (*layout.Type, error) {
	return s.laid(t, map[string]*layout.Type{})
}

func (s *Site) laid(t *Structure, made map[string]*layout.Type) (*layout.Type, error) {
	if laid := made[t.ID]; laid != nil {
		return laid, nil
	}
	laid := &layout.Type{Name: t.Name, Members: make([]layout.Member, len(t.Members))}
	made[t.ID] = laid
	for i := range t.Members {
		m := &t.Members[i]
		to := &laid.Members[i]
		*to = layout.Member{Name: m.Name, Count: m.Count, First: m.First, More: m.More, Reserve: m.Reserve}
		if m.Structure != "" {
			inner := s.Structure(m.Structure)
			if inner == nil {
				return nil, fmt.Errorf("member %s is of a structure that is not in the site", m.Name)
			}
			var err error
			if to.Of, err = s.laid(inner, made); err != nil {
				return nil, err
			}
			continue
		}
		switch m.Type {
		case value.TypeBool:
			to.Bits, to.PartOfUnit = 1, true
		case value.TypeBits:
			to.Bits, to.PartOfUnit = m.Length, true
		default:
			to.Bits = 8 * value.Shape{Type: m.Type, Length: m.Length, Padding: m.Padding}.Octets()
		}
	}
	return laid, nil
}

// datasheet checks what must hold for a datasheet to be kept.
func (v *validator) datasheet(d *Datasheet) {
	where := fmt.Sprintf("datasheet %q", d.Name)
	v.identity(where, "datasheet", d.ID, d.Name)
	scheme, err := protocol.SchemeOf(d.Map)
	if err != nil {
		v.fail(where, "its map names no protocol that this version speaks.", "Set the map's protocol.")
		return
	}
	v.access(where, d.Access)
	if d.ThinkMs < 0 || d.ThinkMs > 60_000 {
		v.fail(where, fmt.Sprintf("it thinks for %d ms.", d.ThinkMs), "Give 0 for not stated, to 60 000 ms.")
	}
	ids := map[string]bool{}
	for i := range d.Points {
		p := &d.Points[i].Point
		if p.ID == "" || ids[p.ID] {
			v.fail(where, fmt.Sprintf("the point %q has no id of its own.", p.Name),
				"Ids are unique within a datasheet.")
		}
		ids[p.ID] = true
		v.checkPoint(where, scheme, p)
	}
}

// structure checks what must hold for a structure to be kept.
func (v *validator) structure(s *Site, t *Structure) {
	where := fmt.Sprintf("structure %q", t.Name)
	v.identity(where, "structure", t.ID, t.Name)
	names := map[string]bool{}
	for i := range t.Members {
		m := &t.Members[i]
		if len(m.Name) > 200 || len(m.Remark) > 2000 {
			v.fail(where, "a member's name or remark is too long.", "Names hold 200 characters, remarks 2000.")
		}
		if m.Name == "" || names[m.Name] {
			v.fail(where, fmt.Sprintf("the member name %q is empty or stands twice.", m.Name),
				"Names are unique within a structure.")
		}
		names[m.Name] = true
		if m.Structure != "" {
			continue
		}
		if _, err := value.NewCodec(value.Shape{Type: m.Type, Order: m.Order, Bit: -1, Length: m.Length}); err != nil {
			v.fail(where, fmt.Sprintf("member %s: %s.", m.Name, err), "")
		}
	}
	if v.first != nil {
		return // laying out is the dear part
	}
	laid, err := s.Laid(t)
	var places []layout.Place
	if err == nil {
		places, _, err = layout.Lay(laid, layout.Natural)
	}
	if err != nil {
		v.fail(where, err.Error()+".", "")
	}
	if v.places += len(places); v.places > mostPlaces {
		v.fail(where, fmt.Sprintf("with it the structures of the site have more than %d elements.", mostPlaces),
			"Make its arrays smaller, or remove structures that are not used.")
	}
}

// mostPlaces bounds the elements of all structures together: they are laid out
// at every change of the site.
const mostPlaces = 400_000

func (v *validator) placements(s *Site, where string, d *Device) {
	ids := map[string]bool{}
	for i := range d.Placements {
		p := &d.Placements[i]
		if p.ID == "" || ids[p.ID] {
			v.fail(where, "one of its placements has no id of its own.", "")
		}
		ids[p.ID] = true
		// What was placed may be removed from the site later: the points stay.
		if p.Structure != "" && !p.Rule.Known() {
			v.fail(where, fmt.Sprintf("%q is not a layout rule.", p.Rule), "Use registers, words or natural.")
		}
	}
}

// Lay returns the points of a structure that begins at an address of an area
// whose units have 8 or 16 bits, without ids: one for each element that is no
// reserve, named by its path.
func (s *Site) Lay(t *Structure, rule layout.Rule, at address.Address, unitBits int) ([]Point, error) {
	start := block.Of(at)
	if unitBits != 8 && unitBits != 16 {
		return nil, fmt.Errorf("%s cannot be laid out in single bits: begin in registers or bytes", t.Name)
	}
	laid, err := s.Laid(t)
	if err != nil {
		return nil, err
	}
	places, _, err := layout.Lay(laid, rule)
	if err != nil {
		return nil, err
	}
	points := make([]Point, len(places))
	for i, place := range places {
		m := s.memberAt(t, place.Members)
		p := Point{Name: place.Path, Type: m.Type, Length: m.Length, Padding: m.Padding, Order: m.Order,
			Factor: m.Factor, Unit: m.Unit, Names: m.Names, Remark: m.Remark, Access: ReadOnly, PaceMs: 1000}
		p.Address = block.At(start.Area, start.Offset+uint32(place.Byte))
		if place.PartOfUnit {
			p.Address = block.WithBit(p.Address, place.Bit)
		}
		if unitBits == 16 {
			register, bit := place.Register()
			p.Address = block.At(start.Area, start.Offset+uint32(register))
			switch {
			case m.Type.InUnit():
				p.Address = block.WithBit(p.Address, bit)
			case place.Byte%2 != 0:
				return nil, fmt.Errorf("%s would begin in the middle of a register: lay it out by another rule",
					place.Path)
			}
		}
		points[i] = p
	}
	return points, nil
}

// memberAt follows the indices of a place to its member.
func (s *Site) memberAt(t *Structure, members []int) *Member {
	for {
		m := &t.Members[members[0]]
		if len(members) == 1 {
			return m
		}
		t, members = s.Structure(m.Structure), members[1:]
	}
}
