package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/files"
)

// TestThreeMachines: a plant with three machines runs a Ferry on each, with its part of
// one site, towards one broker; one that is killed takes nothing of the others with
// it, and goes on where it is begun again.
func TestThreeMachines(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: site.Ethernet}}
	port := func(protocolName string, n int) []site.Port {
		return []site.Port{{Line: "net", Host: "127.0.0.1", Protocol: protocolName,
			Settings: protocol.Numbers(map[string]int{"port": n})}}
	}
	topics, err := protocol.SchemeOf("mqtt")
	if err != nil {
		t.Fatal(err)
	}
	topic := func(n int) address.Address {
		a, err := topics.Parse(fmt.Sprintf("skerry/row-%d/oxygen", n), "")
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	broker := site.Device{ID: "broker", Name: "Cloud broker", Map: "mqtt", Ports: port("mqtt", 1883)}
	for n := 1; n <= 3; n++ {
		id := strconv.Itoa(n)
		s.Devices = append(s.Devices, site.Device{ID: "m" + id, Name: "Machine " + id, Ports: []site.Port{{Line: "net"}},
			Points: []site.Point{}}, site.Device{ID: "p" + id, Name: "DO probe " + id, Map: "modbus-tcp",
			Ports: port("modbus-tcp", 502), Points: []site.Point{{ID: "o" + id, Name: "Oxygen", Address: block.At("hr", 0),
				Type: value.TypeFloat32, Unit: "mg/L", Access: site.ReadOnly, PaceMs: 200}}})
		broker.Points = append(broker.Points, site.Point{ID: "t" + id, Name: "Row " + id, Address: topic(n),
			Type: value.TypeFloat32, Access: site.ReadWrite, PaceMs: 1000, Link: "up" + id})
		s.Links = append(s.Links, site.Link{ID: "to" + id, Asking: "m" + id, Answering: "p" + id, Line: "net",
			Protocol: "modbus-tcp"}, site.Link{ID: "up" + id, Asking: "m" + id, Answering: "broker", Line: "net",
			Protocol: "mqtt",
			Settings: protocol.Settings{"client": protocol.OfText("machine-" + id)}})
		s.Crossings = append(s.Crossings, site.Crossing{ID: "x" + id, From: "o" + id, To: "t" + id})
	}
	s.Devices = append(s.Devices, broker)
	write := func(name string) string {
		path := filepath.Join(dir, name)
		f, err := os.Create(path)
		if err == nil {
			err = files.WriteSite(f, s)
		}
		if err != nil || f.Close() != nil {
			t.Fatal(err)
		}
		return path
	}

	// The simulated devices stand for the plant: the machines find them where they are.
	plant := exec.Command(binary(t), "bench", "--json", write("bench.json"))
	out, err := plant.StdoutPipe()
	if err == nil {
		err = plant.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _, _ = plant.Process.Kill(), plant.Wait() })
	var standIns struct {
		Devices []struct{ Device, Addr string }
	}
	if err := json.NewDecoder(out).Decode(&standIns); err != nil {
		t.Fatal(err)
	}
	at := ""
	for _, each := range standIns.Devices {
		_, port, _ := net.SplitHostPort(each.Addr)
		n, _ := strconv.Atoi(port)
		s.Device(each.Device).Ports[0].Settings = protocol.Numbers(map[string]int{"port": n})
		for i := range s.Links {
			if l := &s.Links[i]; l.Answering == each.Device {
				own := protocol.Settings{"port": protocol.OfInt(n)}
				if name, ok := l.Settings["client"]; ok {
					own["client"] = name
				}
				l.Settings = own
			}
		}
		if each.Device == "broker" {
			at = port
		}
	}
	path := write("site.json")
	run := func(n int) *exec.Cmd {
		id := strconv.Itoa(n)
		cmd := exec.Command(binary(t), "run", path, "--plant", "--release", "--only", "to"+id+",up"+id, "--watch", "",
			"--data", filepath.Join(dir, "machine-"+id))
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _, _ = cmd.Process.Kill(), cmd.Wait() })
		return cmd
	}
	hears := func(n, messages int) bool {
		out, err := peerOutput("mosquitto_sub", "-h", "127.0.0.1", "-p", at, "-t", fmt.Sprintf("skerry/row-%d/oxygen", n),
			"-R", "-C", strconv.Itoa(messages), "-W", "4")
		return err == nil && len(strings.Fields(out)) == messages
	}
	machines := map[int]*exec.Cmd{}
	for n := 1; n <= 3; n++ {
		machines[n] = run(n)
	}
	for n := 1; n <= 3; n++ {
		eventually(t, fmt.Sprintf("machine %d to be heard", n), func() bool { return hears(n, 2) })
	}
	_ = machines[2].Process.Signal(syscall.SIGKILL)
	_ = machines[2].Wait()
	if hears(2, 1) {
		t.Error("a machine that is killed is heard")
	}
	for _, n := range []int{1, 3} {
		if !hears(n, 2) {
			t.Errorf("machine %d goes with another", n)
		}
	}
	machines[2] = run(2)
	eventually(t, "it to go on", func() bool { return hears(2, 2) })
	for n := 1; n <= 3; n++ {
		if err := machines[n].Process.Signal(syscall.SIGTERM); err != nil {
			t.Fatal(err)
		}
		if err := machines[n].Wait(); err != nil {
			t.Errorf("machine %d does not end in order: %v", n, err)
		}
	}
}
