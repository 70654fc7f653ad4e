package files

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	family "ferry/internal/core/family/modbus"

	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// foreignTable is a list of so many rows as a manufacturer would print it.
func foreignTable(rows int) []byte {
	var b strings.Builder
	b.WriteString("Reg;Tag name;Data type;Gain;EU;R/W;Description\r\n")
	for i := range rows {
		at := 2 * (i % 32000)
		table := []string{"hr", "ir"}[i/32000]
		typ := []string{"FLOAT", "U32", "INT16U", "REAL", "DINT"}[i%5]
		fmt.Fprintf(&b, "%s%d;Tank%05d.Value;%s;%s;mg/L;R/W;Point %d of the list\r\n", table, at, i, typ,
			[]string{"", "0.1"}[i%2], i)
	}
	return []byte(b.String())
}

const listed = 50_000

// BenchmarkIntake reads, recognises and checks a list of 50 000 rows, and for
// comparison splits the same rows into cells and nothing else.
func BenchmarkIntake(b *testing.B) {
	data := foreignTable(listed)
	b.Run("read, recognised and checked", func(b *testing.B) {
		b.ReportAllocs()
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		for b.Loop() {
			rows, err := ReadTable(data)
			if err != nil {
				b.Fatal(err)
			}
			listing := regmap.Recognise(family.Scheme, rows, regmap.Reading{}, nil)
			points, _, _ := listing.Points(family.Scheme)
			d := &site.Device{ID: "d", Name: "Gateway", Points: points}
			if found := regmap.Check(family.Scheme, d, family.TCP.Most(nil)); len(points) != listed {
				b.Fatal(len(points), len(found))
			}
			runtime.ReadMemStats(&after)
		}
		b.ReportMetric(float64(after.HeapInuse)/1e6, "MB-heap")
	})
	b.Run("only split into cells", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			if _, err := ReadTable(data); err != nil {
				b.Fatal(err)
			}
		}
	})
}

// BenchmarkCheck checks a map of 50 000 points, and for comparison walks over
// it once.
func BenchmarkCheck(b *testing.B) {
	rows, err := ReadTable(foreignTable(listed))
	if err != nil {
		b.Fatal(err)
	}
	listing := regmap.Recognise(family.Scheme, rows, regmap.Reading{}, nil)
	points, _, _ := listing.Points(family.Scheme)
	d := &site.Device{ID: "d", Name: "Gateway", Points: points}
	b.Run("every check", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			regmap.Check(family.Scheme, d, family.TCP.Most(nil))
		}
	})
	b.Run("only walked over", func(b *testing.B) {
		for b.Loop() {
			units := 0
			for i := range d.Points {
				units += d.Points[i].Units(16)
			}
		}
	})
}
