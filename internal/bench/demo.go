package bench

import (
	"fmt"
	"math"

	"ferry/internal/core/address"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

var models = map[string]model{
	"oxygen-probe": {"Optode DO-4 rev 2.1", []entry{
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
	"tank-io": {"Remote I/O RIO-16", []entry{
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
	"pump-drive": {"Drive PD-22 fw 4.7", []entry{
		{name: "Command", at: "hr0", typ: "uint16", decimals: -1, paceMs: 5000, access: "rw", first: value.OfUint(1)},
		{name: "SpeedSetpoint", at: "hr1", typ: "uint16", factor: 0.01, unit: "Hz", decimals: 2, paceMs: 1000, access: "rw", first: value.OfFloat(45)},
		{name: "State", at: "hr100", typ: "uint16", decimals: -1, paceMs: 1000, access: "r", move: pattern(20, 3, 3, 3, 4)},
		{name: "Speed", at: "hr101", typ: "uint16", factor: 0.01, unit: "Hz", decimals: 2, paceMs: 1000, access: "r", move: ramp()},
		{name: "Current", at: "hr102", typ: "int16", factor: 0.1, unit: "A", decimals: 1, paceMs: 1000, access: "r", move: wave(11.6, 1.1, 45)},
		{name: "Torque", at: "hr103", typ: "int16", factor: 0.1, unit: "%", decimals: 1, paceMs: 1000, access: "r", move: wave(62, 7, 45)},
		{name: "RunCount", at: "hr110", typ: "uint32", decimals: -1, paceMs: 5000, access: "r", move: counter(812040, 8)},
		{name: "Energy", at: "hr112", typ: "uint64", factor: 0.001, unit: "kWh", decimals: 3, paceMs: 5000, access: "r", move: func(t float64, _ *memory) value.Value { return value.OfFloat(48211.5 + t/600) }},
		{name: "Ready", at: "di0", typ: "bool", decimals: -1, paceMs: 1000, access: "r", first: value.OfBool(true)},
		{name: "Tripped", at: "di1", typ: "bool", decimals: -1, paceMs: 1000, access: "r"},
		{name: "RunPermit", at: "co0", typ: "bool", decimals: -1, paceMs: 1000, access: "rw", first: value.OfBool(true)},
	}},
	"oxygen-skid": {"Oxygen skid OS-90", []entry{
		{name: "Purity", at: "ir0", typ: "float32", unit: "%", decimals: 1, paceMs: 1000, access: "r", move: wave(93.1, 0.8, 120)},
		{name: "Flow", at: "ir2", typ: "float32", unit: "m³/h", decimals: 2, paceMs: 1000, access: "r", move: wave(14.2, 2.5, 60)},
		{name: "TankPressure", at: "ir4", typ: "float32", unit: "bar", decimals: 2, paceMs: 1000, access: "r", move: wave(8.8, 0.4, 150)},
		{name: "DewPoint", at: "ir6", typ: "int16", factor: 0.1, unit: "°C", decimals: 1, paceMs: 5000, access: "r", move: wave(-52, 1.5, 240)},
		{name: "Total", at: "ir8", typ: "float64", unit: "m³", decimals: 1, paceMs: 5000, access: "r", move: func(t float64, _ *memory) value.Value { return value.OfFloat(81204 + t/250) }},
		{name: "PuritySetpoint", at: "hr0", typ: "float32", unit: "%", decimals: 1, paceMs: 5000, access: "rw", first: value.OfFloat(93)},
	}},
	"uv-doser": {"", []entry{
		{name: "Dose", at: "ir0", typ: "float32", order: "BADC", unit: "mJ/cm²", decimals: 1, paceMs: 1000, access: "r", move: wave(41, 3, 70)},
		{name: "Intensity", at: "ir2", typ: "uint16", factor: 0.1, unit: "W/m²", decimals: 1, paceMs: 1000, access: "r", move: wave(118, 6, 70)},
		{name: "LampHours", at: "ir3", typ: "uint32", unit: "h", decimals: -1, paceMs: 30000, access: "r", move: counter(6120, 0.02)},
		{name: "LampOn", at: "di0", typ: "bool", decimals: -1, paceMs: 1000, access: "r", first: value.OfBool(true)},
	}},
	"gateway": {"Gateway GW-4 to buildings", []entry{
		{name: "Oxygen-11", at: "hr100", typ: "int16", factor: 0.01, unit: "mg/L", decimals: 2, paceMs: 1000, access: "rw"},
		{name: "Temp-11", at: "hr101", typ: "int16", factor: 0.1, unit: "°F", decimals: 1, paceMs: 1000, access: "rw"},
		{name: "Pump-1-Speed", at: "hr102", typ: "uint16", factor: 0.1, unit: "Hz", decimals: 1, paceMs: 1000, access: "rw"},
		{name: "Flow-Total", at: "hr103", typ: "uint32", unit: "m³", decimals: -1, paceMs: 1000, access: "rw"},
		{name: "Valve-Open", at: "co10", typ: "bool", decimals: -1, paceMs: 1000, access: "rw"},
		{name: "UpTime", at: "ir0", typ: "uint32", unit: "s", decimals: -1, paceMs: 5000, access: "r", move: counter(90211, 1)},
	}},
}

// ramp follows the setpoint in holding register 1 at 3 Hz a second.
func ramp() func(float64, *memory) value.Value {
	speed, last := 0.0, 0.0
	return func(t float64, m *memory) value.Value {
		target := m.register(1) / 100
		step := 3 * (t - last)
		last = t
		speed += math.Max(-step, math.Min(step, target-speed))
		return value.OfFloat(speed + 0.02*math.Sin(3*t))
	}
}

// Demo returns the demo site: part of Skerry Point Hatchery, a made-up fish
// farm on land. Two things are wrong with it on purpose: two points of DO
// probe 12 overlap, and the UV doser has no discrete input where its map says
// that the lamp door is.
func Demo() *site.Site {
	s := &site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point Hatchery",
		Remark: "A made-up fish farm on land. Its devices are simulated.",
		Lines:  []site.Line{{ID: "plantnet", Name: "Plant net", Medium: "ethernet", Network: "192.0.2.0/24", Gateway: "192.0.2.1"}},
		Links:  []site.Link{}, Crossings: []site.Crossing{},
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
	} {
		device := site.Device{ID: d.id, Name: d.name, Model: d.model, Bench: d.bench, Map: "modbus-tcp",
			Ports: []site.Port{{Line: "plantnet", Host: d.host, Protocol: "modbus-tcp", Settings: map[string]int{"port": 502, "unit": 1, "thinkMs": 6}}}}
		for i, e := range models[d.bench].entries {
			p := e.point()
			p.ID = fmt.Sprintf("%s-%02d", d.id, i+1)
			device.Points = append(device.Points, p)
		}
		s.Devices = append(s.Devices, device)
		s.Links = append(s.Links, site.Link{ID: "lss-" + d.id, Asking: "lss", Answering: d.id, Line: "plantnet", Protocol: "modbus-tcp",
			Settings: map[string]int{"port": 502, "unit": 1, "timeoutMs": 300, "retries": 1}})
	}
	do12, uv := s.Device("do12"), s.Device("uv")
	do12.Points = append(do12.Points, site.Point{ID: "do12-wash", Name: "FlowWash", Address: address.At("hr", 21), Type: value.TypeUint32, Order: "CDAB",
		Factor: 0.1, Unit: "L", PaceMs: 30000, Access: site.ReadOnly})
	uv.Points = append(uv.Points, site.Point{ID: "uv-door", Name: "LampDoor", Address: address.At("di", 100), Type: value.TypeBool, PaceMs: 5000, Access: site.ReadOnly})
	uv.Limits.NoBridging = true
	s.Crossings = []site.Crossing{
		{ID: "x-oxygen", From: "do11-01", To: "gate-01", Deadband: 0.02},
		{ID: "x-temp", From: "do11-02", To: "gate-02", Factor: 1.8, Offset: 32, Deadband: 0.1},
		{ID: "x-speed", From: "pump1-04", To: "gate-03", Deadband: 0.1},
		{ID: "x-total", From: "skid-05", To: "gate-04", Deadband: 1},
		{ID: "x-valve", From: "ioa-01", To: "gate-05"},
	}
	return s
}
