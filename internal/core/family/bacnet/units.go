package bacnet

import (
	"strconv"
	"strings"
)

// Unit is one of the standard's (clause 21, BACnetEngineeringUnits).
type Unit uint32

// NoUnits says that a value has none.
const NoUnits Unit = 95

// unitTable has them in rows of number, name in the standard, and how people write it where they do. The
// unit of conductance, S, has its older name.
const unitTable = `
0 square-meters m²|1 square-feet ft²|2 milliamperes mA|3 amperes A|4 ohms Ω|5 volts V|6 kilovolts kV|7 megavolts MV
8 volt-amperes VA|9 kilovolt-amperes kVA|10 megavolt-amperes MVA|11 volt-amperes-reactive var|12 kilovolt-amperes-reactive kvar
13 megavolt-amperes-reactive Mvar|14 degrees-phase|15 power-factor cosφ|16 joules J|17 kilojoules kJ|18 watt-hours Wh
19 kilowatt-hours kWh|20 btus BTU|21 therms|22 ton-hours|23 joules-per-kilogram-dry-air J/kg|24 btus-per-pound-dry-air
25 cycles-per-hour|26 cycles-per-minute|27 hertz Hz|28 grams-of-water-per-kilogram-dry-air|29 percent-relative-humidity %rH
30 millimeters mm|31 meters m|32 inches in|33 feet ft|34 watts-per-square-foot|35 watts-per-square-meter W/m²|36 lumens lm
37 luxes lx|38 foot-candles|39 kilograms kg|40 pounds-mass lb|41 tons t|42 kilograms-per-second kg/s|43 kilograms-per-minute kg/min
44 kilograms-per-hour kg/h|45 pounds-mass-per-minute|46 pounds-mass-per-hour|47 watts W|48 kilowatts kW|49 megawatts MW
50 btus-per-hour|51 horsepower hp|52 tons-refrigeration|53 pascals Pa|54 kilopascals kPa|55 bars bar|56 pounds-force-per-square-inch psi
57 centimeters-of-water cmH2O|58 inches-of-water inH2O|59 millimeters-of-mercury mmHg|60 centimeters-of-mercury|61 inches-of-mercury inHg
62 degrees-celsius °C|63 degrees-kelvin K|64 degrees-fahrenheit °F|65 degree-days-celsius|66 degree-days-fahrenheit|67 years a
68 months|69 weeks|70 days d|71 hours h|72 minutes min|73 seconds s|74 meters-per-second m/s|75 kilometers-per-hour km/h
76 feet-per-second|77 feet-per-minute|78 miles-per-hour mph|79 cubic-feet ft³|80 cubic-meters m³|81 imperial-gallons|82 liters L
83 us-gallons gal|84 cubic-feet-per-minute|85 cubic-meters-per-second m³/s|86 imperial-gallons-per-minute|87 liters-per-second L/s
88 liters-per-minute L/min|89 us-gallons-per-minute gpm|90 degrees-angular °|91 degrees-celsius-per-hour °C/h
92 degrees-celsius-per-minute °C/min|93 degrees-fahrenheit-per-hour|94 degrees-fahrenheit-per-minute|95 no-units
96 parts-per-million ppm|97 parts-per-billion ppb|98 percent %|99 percent-per-second %/s|100 per-minute 1/min|101 per-second 1/s
102 psi-per-degree-fahrenheit|103 radians rad|104 revolutions-per-minute rpm|115 square-inches in²|116 square-centimeters cm²
117 btus-per-pound|118 centimeters cm|119 pounds-mass-per-second|120 delta-degrees-fahrenheit|121 delta-degrees-kelvin|122 kilohms kΩ
123 megohms MΩ|124 millivolts mV|125 kilojoules-per-kilogram kJ/kg|126 megajoules MJ|127 joules-per-degree-kelvin J/K
128 joules-per-kilogram-degree-kelvin|129 kilohertz kHz|130 megahertz MHz|131 per-hour 1/h|132 milliwatts mW|133 hectopascals hPa
134 millibars mbar|135 cubic-meters-per-hour m³/h|136 liters-per-hour L/h|137 kilowatt-hours-per-square-meter kWh/m²
138 kilowatt-hours-per-square-foot|139 megajoules-per-square-meter MJ/m²|140 megajoules-per-square-foot
141 watts-per-square-meter-degree-kelvin|142 cubic-feet-per-second|143 percent-obscuration-per-foot|144 percent-obscuration-per-meter
145 milliohms mΩ|146 megawatt-hours MWh|147 kilo-btus|148 mega-btus|149 kilojoules-per-kilogram-dry-air
150 megajoules-per-kilogram-dry-air|151 kilojoules-per-degree-kelvin|152 megajoules-per-degree-kelvin|153 newton N|154 grams-per-second g/s
155 grams-per-minute g/min|156 tons-per-hour t/h|157 kilo-btus-per-hour|158 hundredths-seconds|159 milliseconds ms|160 newton-meters Nm
161 millimeters-per-second mm/s|162 millimeters-per-minute mm/min|163 meters-per-minute m/min|164 meters-per-hour m/h
165 cubic-meters-per-minute m³/min|166 meters-per-second-per-second m/s²|167 amperes-per-meter A/m|168 amperes-per-square-meter A/m²
169 ampere-square-meters|170 farads F|171 henrys H|172 ohm-meters Ωm|173 mhos S|174 mhos-per-meter S/m|175 teslas T
176 volts-per-degree-kelvin|177 volts-per-meter V/m|178 webers Wb|179 candelas cd|180 candelas-per-square-meter cd/m²
181 degrees-kelvin-per-hour K/h|182 degrees-kelvin-per-minute K/min|183 joule-seconds|184 radians-per-second rad/s
185 square-meters-per-newton|186 kilograms-per-cubic-meter kg/m³|187 newton-seconds|188 newtons-per-meter N/m
189 watts-per-meter-per-degree-kelvin|190 micromhos µS|191 cubic-feet-per-hour|192 us-gallons-per-hour|193 kilometers km
194 micrometers µm|195 grams g|196 milligrams mg|197 milliliters mL|198 milliliters-per-second mL/s|199 decibels dB
200 decibels-millivolt|201 decibels-volt|202 millimhos mS|203 watt-hours-reactive varh|204 kilowatt-hours-reactive kvarh
205 megawatt-hours-reactive Mvarh|206 millimeters-of-water mmH2O|207 per-mille ‰|208 grams-per-gram|209 kilograms-per-kilogram
210 grams-per-kilogram g/kg|211 milligrams-per-gram|212 milligrams-per-kilogram mg/kg|213 grams-per-milliliter|214 grams-per-liter g/L
215 milligrams-per-liter mg/L|216 micrograms-per-liter µg/L|217 grams-per-cubic-meter g/m³|218 milligrams-per-cubic-meter mg/m³
219 micrograms-per-cubic-meter µg/m³|220 nanograms-per-cubic-meter|221 grams-per-cubic-centimeter g/cm³|222 becquerels Bq
223 kilobecquerels|224 megabecquerels|225 gray|226 milligray|227 microgray|228 sieverts|229 millisieverts|230 microsieverts
231 microsieverts-per-hour|232 decibels-a dBA|233 nephelometric-turbidity-unit NTU|234 pH pH|235 grams-per-square-meter g/m²
236 minutes-per-degree-kelvin|237 ohm-meter-squared-per-meter|238 ampere-seconds As|239 volt-ampere-hours VAh
240 kilovolt-ampere-hours kVAh|241 megavolt-ampere-hours MVAh|242 volt-ampere-hours-reactive|243 kilovolt-ampere-hours-reactive
244 megavolt-ampere-hours-reactive|245 volt-square-hours|246 ampere-square-hours`

// unitRow is a unit of the table.
type unitRow struct{ name, short string }

var units, unitsCalled = func() (map[Unit]unitRow, map[string]Unit) {
	all, called := map[Unit]unitRow{}, map[string]Unit{}
	for row := range strings.FieldsFuncSeq(unitTable, func(r rune) bool { return r == '|' || r == '\n' }) {
		fields := strings.Fields(row)
		n, err := strconv.ParseUint(fields[0], 10, 32)
		if err != nil || len(fields) > 3 {
			panic("units of BACnet: " + row) // a test reads it
		}
		u := unitRow{name: fields[1]}
		if len(fields) == 3 {
			u.short = fields[2]
		}
		all[Unit(n)] = u
		for _, text := range []string{u.name, u.short} {
			if key := unitKey(text); key != "" {
				if _, twice := called[key]; !twice {
					called[key] = Unit(n)
				}
			}
		}
	}
	for text, n := range map[string]Unit{"l": 82, "l/s": 87, "l/min": 88, "l/h": 136, "m3": 80, "m3/h": 135, "m3/s": 85,
		"m2":  0,
		"ohm": 4, "degc": 62, "°c": 62, "degf": 64, "mg/l": 215, "us": 190, "um": 194, "1/min": 104, "rpm": 104, "u/min": 104,
		"kva": 9, "hpa": 133, "μs": 190, "μg/l": 216, "": NoUnits} {
		called[unitKey(text)] = n
	}
	return all, called
}()

// unitKey is a unit without what people write in one way or another: blanks and dashes. Its letters keep
// their size where that makes it another: mW and MW, mΩ and MΩ.
func unitKey(text string) string {
	key := strings.NewReplacer(" ", "", "-", "", "_", "", "·", "", "\u2009", "").Replace(strings.TrimSpace(text))
	if key == "S" || key == "S/m" {
		return key // and not seconds
	}
	if len(key) > 5 || !strings.ContainsAny(key[:min(1, len(key))], "mM") {
		key = strings.ToLower(key)
	}
	return key
}

// UnitCalled is the unit that people write so, or by its name in the standard, or its number.
func UnitCalled(text string) (Unit, bool) {
	if u, known := unitsCalled[unitKey(text)]; known {
		return u, true
	}
	n, err := strconv.ParseUint(strings.TrimSpace(text), 10, 16)
	return Unit(n), err == nil
}

// Name is the unit as the standard writes it; of one that is not known, its number.
func (u Unit) Name() string {
	if of, known := units[u]; known {
		return of.name
	}
	return strconv.FormatUint(uint64(u), 10)
}

// Short is the unit as people write it, empty for none; by its name where they have no other way.
func (u Unit) Short() string {
	of, known := units[u]
	switch {
	case u == NoUnits:
		return ""
	case !known:
		return "unit " + u.Name()
	case of.short == "":
		return strings.ReplaceAll(of.name, "-", " ")
	}
	return of.short
}
