package opcua

// Units of values (OPC 10000-8, clause 5.6.4): a node that has one has a property with the
// name of it, and a number that is the code of the unit in the list of UN/CEFACT.
const (
	// UnitList is the address of that list.
	UnitList = "http://www.opcfoundation.org/UA/units/un/cefact"
	// PropertyUnit and PropertyRange are the names of the properties with the unit of a node,
	// and with its range in operation.
	PropertyUnit  = "EngineeringUnits"
	PropertyRange = "EURange"
	// PropertyStates and PropertyValues are those with the names of values: of all from 0 on, and
	// of some.
	PropertyStates = "EnumStrings"
	PropertyValues = "EnumValues"
	// PropertyFalse and PropertyTrue are those with the names of a binary value.
	PropertyFalse = "FalseState"
	PropertyTrue  = "TrueState"
	// NoUnit is the number of a unit that the list does not have.
	NoUnit int32 = -1
)

// codes are units of the plant as they are written, with their codes (UN/CEFACT recommendation
// 20).
var codes = map[string]string{"°C": "CEL", "K": "KEL", "%": "P1", "mg/L": "M1", "mg/l": "M1", "pH": "Q30",
	"m": "MTR", "cm": "CMT", "mm": "MMT", "bar": "BAR", "mbar": "MBR", "Pa": "PAL", "kPa": "KPA",
	"V": "VLT", "A": "AMP", "W": "WTT", "kW": "KWT", "kWh": "KWH", "Hz": "HTZ", "rpm": "RPM",
	"s": "SEC", "min": "MIN", "h": "HUR", "L": "LTR", "l": "LTR", "m³": "MTQ", "m³/h": "MQH", "kg": "KGM"}

// UnitID is the number of a unit: the letters of its code as the octets of a number, the first
// highest; NoUnit for one that the list does not have.
func UnitID(unit string) int32 {
	code, ok := codes[unit]
	if !ok {
		return NoUnit
	}
	var n int32
	for _, letter := range []byte(code) {
		n = n<<8 | int32(letter)
	}
	return n
}
