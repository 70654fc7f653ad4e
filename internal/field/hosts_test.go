package field_test

import (
	"strings"
	"testing"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
)

// says has a device hold a text of 16 characters at its register 100.
func (d *device) says(text string) {
	octets := make([]byte, 16)
	copy(octets, text)
	for i := range uint16(8) {
		d.set(100+i, uint16(octets[2*i])<<8|uint16(octets[2*i+1]))
	}
}

// TestAddressFromPoint: a link whose address a point gives waits for it, follows it,
// goes nowhere that is not allowed, and is left alone by a value that says nothing.
func TestAddressFromPoint(t *testing.T) {
	p := newPlant(t)
	p.edit(t, site.Put(site.KindPoint, "where", "probe", site.Point{ID: "where", Name: "Pump address",
		Address: block.At("hr", 100), Type: value.TypeText, Length: 16, PaceMs: 20, Access: site.ReadOnly}))
	pump := *p.site.Device("pump")
	pump.Points = nil
	pump.Ports = append([]site.Port{}, pump.Ports...)
	pump.Ports[0].Host, pump.Ports[0].HostFrom = "127.0.0.77", "where"
	pump.Ports[0].HostAmong = []string{"127.0.0.0/29"}
	p.edit(t, site.Put(site.KindDevice, "pump", "", pump))
	asked := func() int {
		d := p.plant["pump"]
		d.mu.Lock()
		defer d.mu.Unlock()
		n := d.asked
		d.asked = 0
		return n
	}
	quiet := func(why string) {
		t.Helper()
		time.Sleep(60 * time.Millisecond) // what is on its way
		asked()
		if time.Sleep(200 * time.Millisecond); asked() > 0 {
			t.Errorf("%s, and the pump is asked", why)
		}
	}
	p.begin(t, field.Plant)
	quiet("no address is given yet")
	p.plant["probe"].says("127.0.0.9")
	quiet("the address is none that may be given")
	if _, err := p.Prepare(t.Context(), "pump-1", "45"); err == nil {
		t.Error("a write is prepared for an address that may not be given")
	}
	p.plant["probe"].says("127.0.0.1")
	fieldtest.Wait(t, "the pump to be asked", func() bool { return asked() > 0 })
	p.plant["probe"].says("nobody")
	time.Sleep(100 * time.Millisecond)
	if fieldtest.Wait(t, "it to go on", func() bool { return asked() > 0 }); len(p.State().Running) != 3 {
		t.Errorf("%v run", p.State().Running)
	}
	p.plant["probe"].says("127.0.0.1")
	fieldtest.Wait(t, "the address to be read again", func() bool {
		live, _ := p.Hub.Point("where")
		return live.Value.Text() == "127.0.0.1"
	})
	p.Unlock(time.Minute)
	order, err := p.Prepare(t.Context(), "pump-1", "45")
	if err != nil {
		t.Fatal(err)
	}
	p.plant["probe"].says("127.0.0.2")
	fieldtest.Wait(t, "the pump to be asked no more",
		func() bool { time.Sleep(50 * time.Millisecond); return asked() == 0 })
	if _, err := p.Write(t.Context(), "test", order.Token); err == nil {
		t.Error("an order goes to another address than the one it was prepared for")
	}
	if got := p.plant["pump"].written(); len(got) > 0 {
		t.Errorf("written: %v", got)
	}
	if err := p.SetMode(field.Bench); err != nil {
		t.Fatal(err)
	}
	if err := p.Start(nil); err != nil {
		t.Fatal(err)
	}
	quiet("on the bench the stand-in is asked")
}

// TestAddressByName: a device may be given by its name, which is looked up when it is
// dialled; a name that nobody knows is told from a device that is not there.
func TestAddressByName(t *testing.T) {
	p := newPlant(t)
	named := func(host string) {
		gate := *p.site.Device("gate")
		gate.Points, gate.Ports = nil, append([]site.Port{}, gate.Ports...)
		gate.Ports[0].Host = host
		p.edit(t, site.Put(site.KindDevice, "gate", "", gate))
	}
	named("localhost")
	p.plant["gate"].set(1, 7)
	p.begin(t, field.Plant)
	fieldtest.Wait(t, "a value by name", func() bool {
		live, _ := p.Hub.Point("gate-1")
		return live.Quality == value.Good && live.Value.Float() == 7
	})
	named("gate.skerry.invalid")
	fieldtest.Wait(t, "the name to be missed", func() bool {
		live, _ := p.Hub.Point("gate-1")
		return live.Quality == value.Bad && strings.Contains(live.Reason, "gate.skerry.invalid cannot be resolved")
	})
}
