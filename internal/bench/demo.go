package bench

import (
	"fmt"
	"math"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/shelf/access"
)

var models = map[string]model{
	"oxygen-probe": {identity: "Optode DO-4 rev 2.1", entries: []entry{
		{name: "Oxygen", at: "hr0", typ: "float32", order: "CDAB", unit: "mg/L", decimals: 2, paceMs: 1000, access: "r", move: wave(8.6, 0.9, 140)},
		{name: "WaterTemp", at: "hr2", typ: "float32", order: "CDAB", unit: "°C", decimals: 2, paceMs: 1000, access: "r", move: wave(12.4, 0.4, 310)},
		{name: "Status", at: "hr4", typ: "uint16", decimals: -1, paceMs: 1000, access: "r", move: pattern(4, 5, 5, 7, 5, 13, 5)},
		{name: "WarmedUp", at: "hr4.0", typ: "bool", decimals: -1, paceMs: 1000, access: "r"},
		{name: "Wiping", at: "hr4.1", typ: "bool", decimals: -1, paceMs: 1000, access: "r"},
		{name: "MembraneDue", at: "hr4.3", typ: "bool", decimals: -1, paceMs: 1000, access: "r"},
		{name: "Fault", at: "hr5", typ: "uint16", decimals: -1, paceMs: 1000, access: "r"},
		{name: "Saturation", at: "hr8", typ: "float32", order: "CDAB", unit: "%", decimals: 1, paceMs: 5000, access: "r", move: wave(93, 6, 140)},
		{name: "RawCurrent", at: "hr10", typ: "float32", order: "CDAB", unit: "nA", decimals: 1, paceMs: 5000, access: "r", move: wave(61, 4, 90)},
		{name: "SerialNo", at: "hr14", typ: "text 8", decimals: -1, paceMs: 0, access: "r", first: value.OfText("DP-20417")},
		{name: "MembraneHours", at: "hr20", typ: "uint32", order: "CDAB", unit: "h", decimals: -1, paceMs: 30000, access: "r", move: counter(3180, 0.02)},
		{name: "Salinity", at: "hr30", typ: "int16", factor: 0.01, unit: "‰", decimals: 2, paceMs: 5000, access: "r", move: wave(33.9, 0.3, 400)},
		{name: "Pressure", at: "hr31", typ: "float32", order: "CDAB", unit: "kPa", decimals: 1, paceMs: 5000, access: "r", move: wave(101.6, 0.5, 200)},
		{name: "Label", at: "hr40", typ: "text 16", order: "BA", decimals: -1, paceMs: 0, access: "rw", first: value.OfText("Tank row A")},
		{name: "CalSlope", at: "hr52", typ: "float32", order: "CDAB", decimals: 3, paceMs: 0, access: "rw", first: value.OfFloat(1.012)},
		{name: "CalOffset", at: "hr54", typ: "float32", order: "CDAB", decimals: 3, paceMs: 0, access: "rw", first: value.OfFloat(-0.04)},
	}},
	"tank-io": {identity: "Remote I/O RIO-16", entries: []entry{
		{name: "InletValve", at: "co0", typ: "bool", decimals: -1, paceMs: 1000, access: "rw", first: value.OfBool(true)},
		{name: "DrainValve", at: "co1", typ: "bool", decimals: -1, paceMs: 1000, access: "rw"},
		{name: "OxygenValve", at: "co2", typ: "bool", decimals: -1, paceMs: 1000, access: "rw", first: value.OfBool(true)},
		{name: "FeederEnable", at: "co3", typ: "bool", decimals: -1, paceMs: 1000, access: "rw"},
		{name: "LevelHigh", at: "di0", typ: "bool", decimals: -1, paceMs: 1000, access: "r", move: pattern(7, 0, 0, 1, 0)},
		{name: "LevelLow", at: "di1", typ: "bool", decimals: -1, paceMs: 1000, access: "r", move: pattern(9, 0, 0, 0, 1, 0)},
		{name: "HatchOpen", at: "di4", typ: "bool", decimals: -1, paceMs: 1000, access: "r"},
		{name: "Level1", at: "ir0", typ: "int16", factor: 0.1, unit: "%", decimals: 1, paceMs: 1000, access: "r", move: wave(61, 5, 80)},
		{name: "Level2", at: "ir1", typ: "int16", factor: 0.1, unit: "%", decimals: 1, paceMs: 1000, access: "r", move: wave(58, 4, 95)},
		{name: "Level3", at: "ir2", typ: "int16", factor: 0.1, unit: "%", decimals: 1, paceMs: 1000, access: "r", move: wave(64, 6, 110)},
		{name: "PH", at: "ir3", typ: "uint16", factor: 0.01, unit: "pH", decimals: 2, paceMs: 1000, access: "r", move: wave(7.4, 0.12, 260)},
	}},
	"pump-drive": {identity: "Drive PD-22 fw 4.7", entries: []entry{
		{name: "Command", at: "hr0", typ: "uint16", decimals: -1, paceMs: 5000, access: "rw", first: value.OfUint(1)},
		{name: "SpeedSetpoint", at: "hr1", typ: "uint16", factor: 0.01, unit: "Hz", decimals: 2, paceMs: 1000, access: "rw", first: value.OfFloat(45)},
		{name: "State", at: "hr100", typ: "uint16", decimals: -1, paceMs: 1000, access: "r", move: pattern(20, 3, 3, 3, 4)},
		{name: "Speed", at: "hr101", typ: "uint16", factor: 0.01, unit: "Hz", decimals: 2, paceMs: 1000, access: "r", begin: ramp},
		{name: "Current", at: "hr102", typ: "int16", factor: 0.1, unit: "A", decimals: 1, paceMs: 1000, access: "r", move: wave(11.6, 1.1, 45)},
		{name: "Torque", at: "hr103", typ: "int16", factor: 0.1, unit: "%", decimals: 1, paceMs: 1000, access: "r", move: wave(62, 7, 45)},
		{name: "RunCount", at: "hr110", typ: "uint32", decimals: -1, paceMs: 5000, access: "r", move: counter(812040, 8)},
		{name: "Energy", at: "hr112", typ: "uint64", factor: 0.001, unit: "kWh", decimals: 3, paceMs: 5000, access: "r", move: func(t float64, _ *Memory) value.Value { return value.OfFloat(48211.5 + t/600) }},
		{name: "Ready", at: "di0", typ: "bool", decimals: -1, paceMs: 1000, access: "r", first: value.OfBool(true)},
		{name: "Tripped", at: "di1", typ: "bool", decimals: -1, paceMs: 1000, access: "r"},
		{name: "RunPermit", at: "co0", typ: "bool", decimals: -1, paceMs: 1000, access: "rw", first: value.OfBool(true)},
	}},
	"oxygen-skid": {identity: "Oxygen skid OS-90", entries: []entry{
		{name: "Purity", at: "ir0", typ: "float32", unit: "%", decimals: 1, paceMs: 1000, access: "r", move: wave(93.1, 0.8, 120)},
		{name: "Flow", at: "ir2", typ: "float32", unit: "m³/h", decimals: 2, paceMs: 1000, access: "r", move: wave(14.2, 2.5, 60)},
		{name: "TankPressure", at: "ir4", typ: "float32", unit: "bar", decimals: 2, paceMs: 1000, access: "r", move: wave(8.8, 0.4, 150)},
		{name: "DewPoint", at: "ir6", typ: "int16", factor: 0.1, unit: "°C", decimals: 1, paceMs: 5000, access: "r", move: wave(-52, 1.5, 240)},
		{name: "Total", at: "ir8", typ: "float64", unit: "m³", decimals: 1, paceMs: 5000, access: "r", move: func(t float64, _ *Memory) value.Value { return value.OfFloat(81204 + t/250) }},
		{name: "PuritySetpoint", at: "hr0", typ: "float32", unit: "%", decimals: 1, paceMs: 5000, access: "rw", first: value.OfFloat(93)},
	}},
	"uv-doser": {identity: "", entries: []entry{
		{name: "Dose", at: "ir0", typ: "float32", order: "BADC", unit: "mJ/cm²", decimals: 1, paceMs: 1000, access: "r", move: wave(41, 3, 70)},
		{name: "Intensity", at: "ir2", typ: "uint16", factor: 0.1, unit: "W/m²", decimals: 1, paceMs: 1000, access: "r", move: wave(118, 6, 70)},
		{name: "LampHours", at: "ir3", typ: "uint32", unit: "h", decimals: -1, paceMs: 30000, access: "r", move: counter(6120, 0.02)},
		{name: "LampOn", at: "di0", typ: "bool", decimals: -1, paceMs: 1000, access: "r", first: value.OfBool(true)},
	}},
	"gateway": {identity: "Gateway GW-4 to buildings", entries: []entry{
		{name: "Oxygen-11", at: "hr100", typ: "int16", factor: 0.01, unit: "mg/L", decimals: 2, paceMs: 1000, access: "rw"},
		{name: "Temp-11", at: "hr101", typ: "int16", factor: 0.1, unit: "°F", decimals: 1, paceMs: 1000, access: "rw"},
		{name: "Pump-1-Speed", at: "hr102", typ: "uint16", factor: 0.1, unit: "Hz", decimals: 1, paceMs: 1000, access: "rw"},
		{name: "Flow-Total", at: "hr103", typ: "uint32", unit: "m³", decimals: -1, paceMs: 1000, access: "rw"},
		{name: "Valve-Open", at: "co10", typ: "bool", decimals: -1, paceMs: 1000, access: "rw"},
		{name: "UpTime", at: "ir0", typ: "uint32", unit: "s", decimals: -1, paceMs: 5000, access: "r", move: counter(90211, 1)},
	}},
	"ph-transmitter": {identity: "pH transmitter PH-3", tight: true, entries: []entry{
		{name: "PH", at: "ir0", typ: "float32", order: "CDAB", unit: "pH", decimals: 2, paceMs: 1000, access: "r", move: wave(7.42, 0.2, 180)},
		{name: "WaterTemp", at: "ir2", typ: "float32", order: "CDAB", unit: "°C", decimals: 1, paceMs: 1000, access: "r", move: wave(12.6, 0.5, 300)},
		{name: "Redox", at: "ir4", typ: "int16", unit: "mV", decimals: -1, paceMs: 1000, access: "r", move: wave(284, 15, 90)},
		{name: "Slope", at: "ir5", typ: "uint16", factor: 0.1, unit: "%", decimals: 1, paceMs: 30000, access: "r", first: value.OfFloat(97.2)},
		{name: "Impedance", at: "ir6", typ: "uint32", order: "CDAB", unit: "kΩ", decimals: -1, paceMs: 30000, access: "r", first: value.OfUint(184300)},
	}},
	"level-radar": {identity: "Level radar LR-1", entries: []entry{
		{name: "Level", at: "ir0", typ: "int16", factor: 0.001, unit: "m", decimals: 3, paceMs: 1000, access: "r", move: wave(2.41, 0.12, 75)},
		{name: "Quality", at: "ir1", typ: "uint16", unit: "%", decimals: -1, paceMs: 1000, access: "r", move: wave(92, 4, 50)},
		{name: "LevelPower", at: "ir2", typ: "int16", decimals: -1, paceMs: 5000, access: "r", first: value.OfInt(-3)},
		{name: "EchoLost", at: "di0", typ: "bool", decimals: -1, paceMs: 1000, access: "r"},
	}},
	"feeder": {identity: "Feeder FD-8", entries: []entry{
		{name: "Hopper1", at: "hr0", typ: "uint16", factor: 0.1, unit: "kg", decimals: 1, paceMs: 5000, access: "r", move: wave(61, 12, 600)},
		{name: "Hopper2", at: "hr1", typ: "uint16", factor: 0.1, unit: "kg", decimals: 1, paceMs: 5000, access: "r", move: wave(48, 9, 700)},
		{name: "Rate", at: "hr8", typ: "uint16", unit: "g/min", decimals: -1, paceMs: 1000, access: "rw", first: value.OfUint(850)},
		{name: "FedToday", at: "hr9", typ: "base10k 2", unit: "g", decimals: -1, paceMs: 5000, access: "r", move: counter(41275, 14)},
		{name: "Mode", at: "hr11", typ: "enum", decimals: -1, paceMs: 1000, access: "rw", names: "0 off; 1 hand; 2 by the clock; 3 by oxygen", first: value.OfUint(2)},
		{name: "Clock", at: "hr12", typ: "cp56", decimals: -1, paceMs: 1000, access: "r", move: func(t float64, _ *Memory) value.Value {
			return value.OfMoment(feederClock + int64(1000*t))
		}},
		{name: "Jammed", at: "hr16.0", typ: "bool", decimals: -1, paceMs: 1000, access: "r"},
		{name: "LidOpen", at: "hr16.1", typ: "bool", decimals: -1, paceMs: 1000, access: "r", move: pattern(40, 0, 0, 0, 1)},
		{name: "Step", at: "hr16.4", typ: "bits 4", decimals: -1, paceMs: 1000, access: "r", move: pattern(6, 1, 2, 3, 4, 5)},
	}},
	"flow-meter": {identity: "Flow meter MF-6", entries: []entry{
		{name: "Flow", at: "ir0", typ: "float32", order: "BADC", unit: "m³/h", decimals: 2, paceMs: 1000, access: "r", move: wave(38.6, 3.1, 65)},
		{name: "Total", at: "ir2", typ: "bcd32", factor: 0.1, unit: "m³", decimals: 1, paceMs: 5000, access: "r", move: func(t float64, _ *Memory) value.Value { return value.OfFloat(204518.3 + t/90) }},
		{name: "Conductivity", at: "ir4", typ: "uint16", unit: "µS/cm", decimals: -1, paceMs: 5000, access: "r", move: wave(412, 8, 120)},
		{name: "SerialNo", at: "ir10", typ: "text 12", decimals: -1, paceMs: 0, access: "r", first: value.OfText("MF-6-0031877")},
		{name: "EmptyPipe", at: "di0", typ: "bool", decimals: -1, paceMs: 1000, access: "r"},
	}},
}

// feederClock is where the feeder's own clock starts: the bench knows no other
// time than that since it began.
const feederClock = 1795420800000 // 2026-11-23 08:00 UTC

// ramp follows the setpoint in holding register 1 at 3 Hz a second.
func ramp() func(float64, *Memory) value.Value {
	speed, last := 0.0, 0.0
	return func(t float64, m *Memory) value.Value {
		target := m.word("hr", 1) / 100
		step := 3 * (t - last)
		last = t
		speed += math.Max(-step, math.Min(step, target-speed))
		return value.OfFloat(speed + 0.02*math.Sin(3*t))
	}
}

// Demo returns the demo site: part of Skerry Point Hatchery, a made-up fish
// farm on land. Some things are wrong with it on purpose: two points of DO probe
// 12 overlap; the UV doser has no discrete input where its map says that the
// lamp door is; the whole map of pH 21 lies one register too high; and the
// make-up flow meter is mapped with the wrong order and the wrong type.
func Demo() *site.Site {
	s := &site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point Hatchery",
		Remark: "A made-up fish farm on land. Its devices are simulated.",
		Lines: []site.Line{{ID: "plantnet", Name: "Plant net", Medium: site.Ethernet, Network: "192.0.2.0/24", Gateway: "192.0.2.1"},
			{ID: "rowa", Name: "Tank row A", Medium: site.SerialLine, Serial: &site.Serial{Standard: serial.TIA485Two, Format: serial.Format{Baud: 19200, Data: 8, Parity: serial.Even, Stop: 1}, LengthM: 180}, Strangers: []site.Stranger{{Bench: "level-radar", Unit: 40}}},
			{ID: "pumpbay", Name: "Pump bay", Medium: site.SerialLine, Serial: &site.Serial{Standard: serial.TIA485Two, Format: serial.Format{Baud: 38400, Data: 8, Parity: serial.Even, Stop: 1}, LengthM: 60}}},
		Links: []site.Link{}, Crossings: []site.Crossing{},
	}
	s.Devices = append(s.Devices, site.Device{ID: "lss", Name: "LSS controller", Model: "Life-support controller",
		Ports: []site.Port{{Line: "plantnet", Host: "192.0.2.10"}}, Points: []site.Point{}})
	for _, d := range []struct{ id, name, model, bench, host string }{
		{"do11", "DO probe 11", "Optode DO-4", "oxygen-probe", "192.0.2.21"},
		{"do12", "DO probe 12", "Optode DO-4", "oxygen-probe", "192.0.2.22"},
		{"ioa", "Tank I/O A", "Remote I/O RIO-16", "tank-io", "192.0.2.31"},
		{"pump1", "Pump drive 1", "Drive PD-22", "pump-drive", "192.0.2.41"},
		{"skid", "Oxygen skid", "OS-90", "oxygen-skid", "192.0.2.45"},
		{"uv", "UV doser", "UV-300", "uv-doser", "192.0.2.46"},
		{"gate", "Shore gateway", "GW-4", "gateway", "192.0.2.50"},
		{"ph21", "pH 21", "pH transmitter PH-3", "ph-transmitter", "192.0.2.51"},
		{"level31", "Level 31", "Level radar LR-1", "level-radar", "192.0.2.52"},
		{"feeder1", "Feeder 1", "Feeder FD-8", "feeder", "192.0.2.53"},
		{"flow61", "Make-up flow", "Flow meter MF-6", "flow-meter", "192.0.2.54"},
	} {
		device := site.Device{ID: d.id, Name: d.name, Model: d.model, Bench: d.bench, Map: "modbus-tcp",
			Ports: []site.Port{{Line: "plantnet", Host: d.host, Protocol: "modbus-tcp", Settings: protocol.Numbers(map[string]int{"port": 502, "unit": 1, "thinkMs": 6})}}}
		for i, e := range models[d.bench].entries {
			p := e.point(protocol.UsualOn(site.Ethernet).Scheme)
			p.ID = fmt.Sprintf("%s-%02d", d.id, i+1)
			device.Points = append(device.Points, p)
		}
		s.Devices = append(s.Devices, device)
		s.Links = append(s.Links, site.Link{ID: "lss-" + d.id, Asking: "lss", Answering: d.id, Line: "plantnet", Protocol: "modbus-tcp",
			Settings: protocol.Numbers(map[string]int{"port": 502, "unit": 1, "timeoutMs": 300, "retries": 1})})
	}
	addSerial(s)
	do12, uv := s.Device("do12"), s.Device("uv")
	do12.Points = append(do12.Points, site.Point{ID: "do12-wash", Name: "FlowWash", Address: block.At("hr", 21), Type: value.TypeUint32, Order: "CDAB",
		Factor: 0.1, Unit: "L", PaceMs: 30000, Access: site.ReadOnly})
	uv.Points = append(uv.Points, site.Point{ID: "uv-door", Name: "LampDoor", Address: block.At("di", 100), Type: value.TypeBool, PaceMs: 5000, Access: site.ReadOnly})
	uv.Limits.NoBridging = true
	ph := s.Device("ph21")
	for i := range ph.Points {
		ph.Points[i].Address = block.Moved(ph.Points[i].Address, ph.Points[i].Place().Offset+1)
	}
	level := &s.Device("level31").Points[0]
	level.Factor, level.PowerAt = 0, block.At("ir", 2)
	flow := s.Device("flow61")
	flow.Points[0].Order = ""
	flow.Points[1].Type = value.TypeUint32
	for i := range s.Devices {
		s.Devices[i].Access = access.Lines()[s.Devices[i].Model]
	}
	s.Crossings = []site.Crossing{
		{ID: "x-oxygen", From: "do11-01", To: "gate-01", Deadband: 0.02},
		{ID: "x-temp", From: "do11-02", To: "gate-02", Factor: 1.8, Offset: 32, Deadband: 0.1},
		{ID: "x-speed", From: "pump1-04", To: "gate-03", Deadband: 0.1},
		{ID: "x-total", From: "skid-05", To: "gate-04", Deadband: 1},
		{ID: "x-valve", From: "ioa-01", To: "gate-05"},
	}
	return s
}

// addSerial puts the two serial lines of the demo site in: the instruments of a
// row of tanks, and the pumps that turn its water over.
func addSerial(s *site.Site) {
	yes, no := true, false
	asker := s.Device("lss")
	for i, line := range []string{"rowa", "pumpbay"} {
		asker.Ports = append(asker.Ports, site.Port{Line: line, Serial: &site.PortSerial{Name: fmt.Sprintf("port %d", i+2), Gender: "dte", UnitLoad: 1, Terminated: &yes, Biased: &yes}})
	}
	for _, d := range []struct {
		id, name, model, bench, line string
		unit, thinkMs                int
		last                         bool
	}{
		{"do13", "DO probe 13", "Optode DO-4", "oxygen-probe", "rowa", 13, 12, false},
		{"do14", "DO probe 14", "Optode DO-4", "oxygen-probe", "rowa", 14, 12, false},
		{"do15", "DO probe 15", "Optode DO-4", "oxygen-probe", "rowa", 15, 12, false},
		{"do16", "DO probe 16", "Optode DO-4", "oxygen-probe", "rowa", 16, 12, false},
		{"level32", "Level 32", "Level radar LR-1", "level-radar", "rowa", 21, 25, false},
		{"ph22", "pH 22", "pH transmitter PH-3", "ph-transmitter", "rowa", 22, 30, true},
		{"circ1", "Circulation pump 1", "Drive PD-22", "pump-drive", "pumpbay", 1, 5, false},
		{"circ2", "Circulation pump 2", "Drive PD-22", "pump-drive", "pumpbay", 2, 5, false},
		{"circ3", "Circulation pump 3", "Drive PD-22", "pump-drive", "pumpbay", 3, 5, false},
		{"feeder2", "Feeder 2", "Feeder FD-8", "feeder", "pumpbay", 9, 18, true},
	} {
		terminated := &no
		if d.last {
			terminated = &yes
		}
		device := site.Device{ID: d.id, Name: d.name, Model: d.model, Bench: d.bench, Map: "modbus-rtu",
			Ports: []site.Port{{Line: d.line, Protocol: "modbus-rtu", Settings: protocol.Numbers(map[string]int{"unit": d.unit, "thinkMs": d.thinkMs}),
				Serial: &site.PortSerial{UnitLoad: 0.25, Terminated: terminated, Biased: &no}}}}
		for i, e := range models[d.bench].entries {
			p := e.point(protocol.UsualOn(site.Ethernet).Scheme)
			p.ID = fmt.Sprintf("%s-%02d", d.id, i+1)
			device.Points = append(device.Points, p)
		}
		s.Devices = append(s.Devices, device)
		s.Links = append(s.Links, site.Link{ID: "lss-" + d.id, Asking: "lss", Answering: d.id, Line: d.line, Protocol: "modbus-rtu",
			Settings: protocol.Numbers(map[string]int{"unit": d.unit, "timeoutMs": 300, "retries": 1, "restAfter": 3, "restS": 10})})
	}
}
