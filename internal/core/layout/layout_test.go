package layout

import (
	"fmt"
	"strings"
	"testing"
)

func printed(places []Place) string {
	var b strings.Builder
	for _, p := range places {
		register, bit := p.Register()
		if p.PartOfUnit {
			fmt.Fprintf(&b, "%s %d.%d r%d.%d\n", p.Path, p.Byte, p.Bit, register, bit)
		} else {
			fmt.Fprintf(&b, "%s %d r%d\n", p.Path, p.Byte, register)
		}
	}
	return b.String()
}

func bits(name string, n int) Member  { return Member{Name: name, Bits: n, PartOfUnit: true} }
func bytes(name string, n int) Member { return Member{Name: name, Bits: 8 * n} }

func TestLay(t *testing.T) {
	pump := &Type{Name: "Pump",
		Members: []Member{bits("Ready", 1), bits("Tripped", 1), bytes("Mode", 1), bytes("Speed", 4), bytes("Count", 1)}}
	row := &Type{Name: "Row", Members: []Member{
		bits("Open", 1),
		{Name: "Pump", Of: pump, Count: 2, First: 1},
		{Name: "Spare", Bits: 16, Count: 3, Reserve: true},
		bits("Last", 1), bits("Step", 3),
	}}
	for _, c := range []struct {
		rule Rule
		size int
		want string
	}{
		{Registers, 30, `Open 1.0 r0.0
Pump[1].Ready 3.0 r1.0
Pump[1].Tripped 3.1 r1.1
Pump[1].Mode 4 r2
Pump[1].Speed 6 r3
Pump[1].Count 10 r5
Pump[2].Ready 13.0 r6.0
Pump[2].Tripped 13.1 r6.1
Pump[2].Mode 14 r7
Pump[2].Speed 16 r8
Pump[2].Count 20 r10
Last 29.0 r14.0
Step 29.1 r14.1
`},
		{Words, 26, `Open 0.0 r0.8
Pump[1].Ready 2.0 r1.8
Pump[1].Tripped 2.1 r1.9
Pump[1].Mode 3 r1
Pump[1].Speed 4 r2
Pump[1].Count 8 r4
Pump[2].Ready 10.0 r5.8
Pump[2].Tripped 10.1 r5.9
Pump[2].Mode 11 r5
Pump[2].Speed 12 r6
Pump[2].Count 16 r8
Last 24.0 r12.8
Step 24.1 r12.9
`},
		{Natural, 36, `Open 0.0 r0.8
Pump[1].Ready 4.0 r2.8
Pump[1].Tripped 5.0 r2.0
Pump[1].Mode 6 r3
Pump[1].Speed 8 r4
Pump[1].Count 12 r6
Pump[2].Ready 16.0 r8.8
Pump[2].Tripped 17.0 r8.0
Pump[2].Mode 18 r9
Pump[2].Speed 20 r10
Pump[2].Count 24 r12
Last 34.0 r17.8
Step 35.0 r17.0
`},
	} {
		t.Run(string(c.rule), func(t *testing.T) {
			places, size, err := Lay(row, c.rule)
			if err != nil {
				t.Fatal(err)
			}
			if got := printed(places); got != c.want {
				t.Errorf("got\n%swant\n%s", got, c.want)
			}
			if size != c.size {
				t.Errorf("size %d, want %d", size, c.size)
			}
		})
	}
}

func TestLayRefuses(t *testing.T) {
	loop := &Type{Name: "Loop"}
	loop.Members = []Member{{Name: "Inner", Of: loop}}
	for name, c := range map[string]struct {
		t    *Type
		rule Rule
		want string
	}{
		"inside itself": {loop, Natural, "contains itself"},
		"no width":      {&Type{Members: []Member{{Name: "X"}}}, Words, "X has no width"},
		"too many": {&Type{Members: []Member{{Name: "X",
			Of: &Type{Members: []Member{{Name: "Y", Bits: 8, Count: 60000}}}, Count: 60000}}}, Words, "more than"},
		"wide field": {&Type{Members: []Member{bits("X", 9)}}, Words, "1 to 8"},
		"no rule":    {&Type{}, "c", "not known"},
	} {
		t.Run(name, func(t *testing.T) {
			if _, _, err := Lay(c.t, c.rule); err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("got %v, want %q", err, c.want)
			}
		})
	}
}

// FuzzLay: whatever a structure is made of, its elements do not overlap, lie in
// their order and inside its size.
func FuzzLay(f *testing.F) {
	f.Add([]byte{1, 9, 40, 0, 2, 200}, uint8(0))
	f.Add([]byte{8, 8, 1, 1, 16, 1, 64}, uint8(1))
	f.Add([]byte{1, 2, 3, 255, 32, 17}, uint8(2))
	f.Fuzz(func(t *testing.T, shape []byte, rule uint8) {
		inner := &Type{Name: "Inner", Members: []Member{bits("A", 1), bytes("B", 4)}}
		outer := &Type{Name: "Outer"}
		for i, b := range shape[:min(len(shape), 64)] {
			m := Member{Name: fmt.Sprint("m", i)}
			switch {
			case b == 0:
				m.Of = inner
			case b < 9:
				m.Bits, m.PartOfUnit = int(b), true
			default:
				m.Bits = 8 * int(b%9)
			}
			if b >= 128 {
				m.Count = int(b % 5)
			}
			outer.Members = append(outer.Members, m)
		}
		r := Rules()[int(rule)%3].Rule
		places, size, err := Lay(outer, r)
		if err != nil {
			return
		}
		used := map[[2]int]string{}
		for _, p := range places {
			for n := range p.Bits {
				at := [2]int{p.Byte, p.Bit + n}
				if !p.PartOfUnit {
					at = [2]int{p.Byte + n/8, n % 8}
				} else if at[1] > 7 { // a field of a register runs on into its high byte
					at = [2]int{p.Byte - 1, at[1] - 8}
				}
				if other, taken := used[at]; taken {
					t.Fatalf("%s: %s and %s share bit %d of byte %d", r, other, p.Path, at[1], at[0])
				}
				if at[0] < 0 || at[0] >= size {
					t.Fatalf("%s: %s lies at byte %d of %d", r, p.Path, at[0], size)
				}
				used[at] = p.Path
			}
		}
	})
}
