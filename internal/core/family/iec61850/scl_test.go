package iec61850

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"os"
	"runtime"
	"strings"
	"testing"

	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

func concentrator(t testing.TB) []byte {
	t.Helper()
	data, err := os.ReadFile("../../../bench/concentrator.icd")
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// TestConcentrator: the device of a file has the attributes that points are made of, with their types,
// units, descriptions and reports.
func TestConcentrator(t *testing.T) {
	held, unread, err := rules{}.Describe(concentrator(t))
	if err != nil || len(unread) > 0 {
		t.Fatalf("%v %v", unread, err)
	}
	by, sorts := map[string]protocol.Held{}, map[protocol.Sort]int{}
	for _, h := range held {
		by[Scheme.Short(h.Address)] = h
		sorts[rules{}.SortOf(h.Address, h.Shape.Type)]++
	}
	for ref, want := range map[string]string{
		"LD0/GGIO1.Ind1.stVal[ST]":           "GGIO1.Ind1 bool Pump 1 runs  LLN0.brcbStatus false",
		"LD0/GGIO2.DPCSO1.stVal[ST]":         "GGIO2.DPCSO1 uint8 Inlet sluice  LLN0.brcbStatus false",
		"LD0/GGIO3.CntRs1.actVal[ST]":        "GGIO3.CntRs1 int64 Pump 1 starts  LLN0.brcbCounted false",
		"LD0/GGIO7.AnIn3.mag.f[MX]":          "GGIO7.AnIn3 float32 Discharge flow m³/h LLN0.urcbMeasured false",
		"LD0/GGIO7.AnIn7.mag.f[MX]":          "GGIO7.AnIn7 float32 Station temperature °C LLN0.urcbMeasured false",
		"LD0/GGIO9.SPCSO1.Oper.ctlVal[CO]":   "GGIO9.SPCSO1 bool Run pump 1   true",
		"LD0/GGIO9.AnOut1.Oper.ctlVal.f[CO]": "GGIO9.AnOut1 float32 Level setpoint m  true",
	} {
		h := by[ref]
		if got := fmt.Sprintf("%s %s %s %s %s %v", h.Name, h.Shape.Type, h.Remark, h.Unit, h.Told, h.Writable); got != want {
			t.Errorf("%s: %q, want %q", ref, got, want)
		}
	}
	if sorts[protocol.SingleSort] != 17 || sorts[protocol.DoubleSort] != 2 || sorts[protocol.CounterSort] != 4 ||
		sorts[protocol.CommandSort] != 5 || sorts[protocol.SetpointSort] != 1 {
		t.Errorf("%v", sorts)
	}
	d, err := rules{}.Draw(concentrator(t), 0)
	if err != nil || d.Name != "SKERRY_CONC" || len(d.Choices) != 1 || d.Answer[KeyAccess] != protocol.OfText("S1") {
		t.Errorf("%+v %v", d, err)
	}
}

// TestBadFiles: what is no SCL file, or cannot be used, is said with its line, and ends.
func TestBadFiles(t *testing.T) {
	const server = `<SCL><IED name="A"><AccessPoint name="P"><Server><LDevice inst="L"><LN0 lnClass="LLN0" lnType="T"/></LDevice></Server></AccessPoint></IED><DataTypeTemplates>`
	for name, c := range map[string]struct{ text, says string }{
		"another":      {"<a/>", "it is no SCL file"},
		"no device":    {"<SCL/>", "no IED"},
		"cut":          {server, "ends before"},
		"entities":     {"<!DOCTYPE SCL SYSTEM \"x\"><SCL/>", "document type"},
		"missing type": {server + "</DataTypeTemplates></SCL>", `its type "T" is not in the file`},
		"missing data": {server + `<LNodeType id="T"><DO name="D" type="X"/></LNodeType></DataTypeTemplates></SCL>`,
			`its type "X" is not in the file`},
		"circular types": {server +
			`<LNodeType id="T"><DO name="D" type="X"/></LNodeType><DOType id="X"><SDO name="a" type="X"/><SDO name="b" type="X"/></DOType></DataTypeTemplates></SCL>`, "in a circle"},
		"no constraint": {server +
			`<LNodeType id="T"><DO name="D" type="X"/></LNodeType><DOType id="X"><DA name="a" bType="BOOLEAN"/></DOType></DataTypeTemplates></SCL>`, "no functional constraint"},
		"odd type": {server +
			`<LNodeType id="T"><DO name="D" type="X"/></LNodeType><DOType id="X"><DA name="a" fc="ST" bType="WORD"/></DOType></DataTypeTemplates></SCL>`, `"WORD" is not known`},
	} {
		_, unread, err := rules{}.Describe([]byte(c.text))
		said := fmt.Sprint(unread)
		if err != nil {
			said = err.Error()
		}
		if !strings.Contains(said, c.says) {
			t.Errorf("%s: %s, want %s", name, said, c.says)
		}
	}
}

// TestRefs: references are read in both notations.
func TestRefs(t *testing.T) {
	for text, want := range map[string]string{"LD0/GGIO1.AnIn1.mag.f[MX]": "",
		"LD0/GGIO1$MX$AnIn1$mag$f":     "LD0/GGIO1.AnIn1.mag.f[MX]",
		"skerryLD0/LLN0.Mod.stVal[st]": "skerryLD0/LLN0.Mod.stVal[ST]"} {
		if want == "" {
			want = text
		}
		if a, err := Scheme.Parse(text, ""); err != nil || Scheme.Short(a) != want {
			t.Errorf("%s: %s, %v", text, Scheme.Short(a), err)
		}
	}
	for text, says := range map[string]string{"GGIO1.Ind1.stVal[ST]": "a stroke",
		"LD0/GGIO1.Ind1.stVal":     "functional constraint is missing",
		"LD0/GGIO1.Ind1.stVal[XX]": "no functional constraint XX", "LD0/GGIO1[ST]": "come data",
		"LD0/G G.x[ST]":           "is no name",
		strings.Repeat("x", 1000): "octets"} {
		if _, err := Scheme.Parse(text, ""); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%.40s: %v, want %s", text, err, says)
		}
	}
}

// TestQuality: a quality that Ferry has comes back as it was.
func TestQuality(t *testing.T) {
	for _, c := range []struct {
		is     value.Quality
		reason string
		says   string
	}{{value.Good, "", ""}, {value.Bad, "the outstation says: it is not online", "invalid, failure"},
		{value.Doubtful, "the outstation says: it is over its range", "questionable, overflow"},
		{value.Good, "forced at the outstation", "substituted"}} {
		if got, why := QualityOf(c.is, c.reason).Means(); got != c.is || !strings.Contains(why, c.says) ||
			c.says == "" && why != "" {
			t.Errorf("%s (%s): %s, %s", c.is, c.reason, got, why)
		}
	}
}

func FuzzSCL(f *testing.F) {
	f.Add(concentrator(f))
	f.Add([]byte(`<SCL><IED name="A"><AccessPoint><Server><LDevice inst="L"><LN0 lnType="T"/></LDevice></Server></AccessPoint></IED></SCL>`))
	f.Fuzz(func(_ *testing.T, data []byte) { _, _, _ = rules{}.Describe(data) })
}

func FuzzRef(f *testing.F) {
	f.Add("LD0/GGIO1.AnIn1.mag.f[MX]")
	f.Add("LD0/GGIO1$MX$AnIn1$mag$f")
	f.Fuzz(func(t *testing.T, text string) {
		r, err := ParseRef(text)
		if err != nil {
			return
		}
		if back, err := ParseRef(r.String()); err != nil || back.String() != r.String() {
			t.Errorf("%q is %s, and comes back as %s, %v", text, r, back, err)
		}
	})
}

// station is a whole station of about so many octets: the concentrator again and again, under other names.
func station(t testing.TB, octets int) []byte {
	text := string(concentrator(t))
	from, to := strings.Index(text, "  <IED "), strings.Index(text, "  </IED>")+len("  </IED>\n")
	var b strings.Builder
	b.WriteString(text[:from])
	for n := 1; b.Len() < octets; n++ {
		b.WriteString(strings.Replace(text[from:to], `name="SKERRY_CONC"`, fmt.Sprintf(`name="SKERRY_%04d"`, n), 1))
	}
	b.WriteString(text[to:])
	return []byte(b.String())
}

// BenchmarkStation reads a station of 20 MB, beside what it takes to go through its elements with the decoder
// of the standard library, and to make the models of all its devices.
func BenchmarkStation(b *testing.B) {
	data := station(b, 20<<20)
	b.Run("read", func(b *testing.B) {
		b.ReportAllocs()
		b.SetBytes(int64(len(data)))
		for b.Loop() {
			f, err := ReadFile(data)
			if err != nil || len(f.Wrong) > 0 {
				b.Fatal(err, f.Wrong)
			}
			var m runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&m)
			b.ReportMetric(float64(m.HeapAlloc-uint64(len(data)))/1e6, "MB-held")
			b.ReportMetric(float64(len(f.IEDs)), "devices")
			runtime.KeepAlive(f)
		}
	})
	b.Run("models", func(b *testing.B) {
		f, err := ReadFile(data)
		if err != nil {
			b.Fatal(err)
		}
		b.ReportAllocs()
		for b.Loop() {
			places := 0
			for _, d := range f.IEDs {
				m, err := f.Model(d.Name, "")
				if err != nil {
					b.Fatal(err)
				}
				places += len(m.Held())
			}
			b.ReportMetric(float64(places), "places")
		}
	})
	b.Run("elements alone", func(b *testing.B) {
		b.ReportAllocs()
		b.SetBytes(int64(len(data)))
		for b.Loop() {
			d := xml.NewDecoder(bytes.NewReader(data))
			for {
				if _, err := d.RawToken(); err == io.EOF {
					break
				} else if err != nil {
					b.Fatal(err)
				}
			}
		}
	})
}
