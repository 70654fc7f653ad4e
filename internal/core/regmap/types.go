package regmap

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// shaped is what a type cell says.
type shaped struct {
	Type    value.Type
	Length  int
	Charset value.Charset
	Padding value.Padding
}

// retype gives p another type. An order for words and bytes is kept as far as
// it means anything there.
func retype(p *site.Point, to shaped) {
	p.Type, p.Length, p.Charset, p.Padding = to.Type, to.Length, to.Charset, to.Padding
}

// PrintType prints the type cell of p: "float32", "bits 4", "text 16 latin1".
func PrintType(p *site.Point) string {
	text := string(p.Type)
	if _, _, needed := p.Type.Length(); needed {
		text += " " + strconv.Itoa(p.Length)
	}
	if p.Charset != "" {
		text += " " + string(p.Charset)
	}
	if p.Padding != "" {
		text += " " + string(p.Padding)
	}
	return text
}

// namedType finds a type by another spelling, or by a word of a family.
func namedType(word string) (value.Type, bool) {
	if t, ok := typeWords[word]; ok {
		return t, true
	}
	for _, v := range vocabularies() {
		if t, ok := v.Types[word]; ok {
			return value.Type(t), true
		}
	}
	return "", false
}

var vocabularies = sync.OnceValue(protocol.Vocabularies)

// typeWords are other spellings that tables use for the types, in small letters
// and without blanks, dashes and underlines. Those of IEC 61131-3 are among
// them.
var typeWords = map[string]value.Type{
	"boolean": value.TypeBool, "bit": value.TypeBool, "binary": value.TypeBool, "digital": value.TypeBool,
	"onoff":    value.TypeBool,
	"bitfield": value.TypeBits,
	"sbyte":    value.TypeInt8, "sint": value.TypeInt8, "usint": value.TypeUint8, "byte": value.TypeUint8,
	"int": value.TypeInt16, "short": value.TypeInt16, "integer": value.TypeInt16, "signed": value.TypeInt16,
	"uint": value.TypeUint16, "word": value.TypeUint16, "unsigned": value.TypeUint16, "ushort": value.TypeUint16,
	"analog": value.TypeUint16, "register": value.TypeUint16,
	"dint": value.TypeInt32, "long": value.TypeInt32, "longint": value.TypeInt32,
	"udint": value.TypeUint32, "dword": value.TypeUint32, "ulong": value.TypeUint32, "counter": value.TypeUint32,
	"counter32": value.TypeUint32,
	"lint":      value.TypeInt64, "longlong": value.TypeInt64,
	"ulint": value.TypeUint64, "lword": value.TypeUint64, "qword": value.TypeUint64,
	"real": value.TypeFloat32, "float": value.TypeFloat32, "single": value.TypeFloat32, "ieee754": value.TypeFloat32,
	"ieee": value.TypeFloat32, "floatingpoint": value.TypeFloat32,
	"lreal": value.TypeFloat64, "double": value.TypeFloat64,
	"string": value.TypeText, "localizedtext": value.TypeText, "char": value.TypeText, "ascii": value.TypeText,
	"str": value.TypeText, "characters": value.TypeText, "wstring": value.TypeText,
	"bcd": value.TypeBCD16, "packedbcd": value.TypeBCD16, "packeddecimal": value.TypeBCD16,
	"mod10k": value.TypeBase10k, "modulo10000": value.TypeBase10k, "mod10000": value.TypeBase10k,
	"base10000":   value.TypeBase10k,
	"enumeration": value.TypeEnum, "enumerated": value.TypeEnum, "list": value.TypeEnum, "state": value.TypeEnum,
	"bitmap": value.TypeFlags, "bitmask": value.TypeFlags, "bitstring": value.TypeFlags, "statusword": value.TypeFlags,
	"status": value.TypeFlags, "bits16": value.TypeFlags, "bits32": value.TypeFlags32,
	"timestamp": value.TypeUnix, "unixtime": value.TypeUnix, "timet": value.TypeUnix, "epoch": value.TypeUnix,
	"dateandtime": value.TypeDT, "datetime": value.TypeDT,
	"cp56time2a": value.TypeCP56, "iec870": value.TypeCP56,
	"raw": value.TypeBytes, "octets": value.TypeBytes, "octetstring": value.TypeBytes, "hex": value.TypeBytes,
}

// widths says what becomes of a type word when a width in bits stands with it.
var widths = map[value.Type]map[int]value.Type{
	value.TypeInt16:   {8: value.TypeInt8, 16: value.TypeInt16, 32: value.TypeInt32, 64: value.TypeInt64},
	value.TypeUint16:  {8: value.TypeUint8, 16: value.TypeUint16, 32: value.TypeUint32, 64: value.TypeUint64},
	value.TypeFloat32: {32: value.TypeFloat32, 64: value.TypeFloat64},
	value.TypeBCD16:   {16: value.TypeBCD16, 32: value.TypeBCD32},
	value.TypeEnum:    {16: value.TypeEnum, 32: value.TypeEnum32},
	value.TypeFlags:   {16: value.TypeFlags, 32: value.TypeFlags32},
	value.TypeUnix:    {32: value.TypeUnix, 64: value.TypeUnixMs},
	value.TypeBase10k: {32: value.TypeBase10k, 48: value.TypeBase10k, 64: value.TypeBase10k},
}

// ofWidth returns the type of t's kind that is so many bits wide.
func ofWidth(t value.Type, bits int) (value.Type, bool) {
	for _, family := range widths {
		for _, member := range family {
			if member == t {
				wide, ok := family[bits]
				return wide, ok
			}
		}
	}
	return t, t.Bytes(0)*8 == bits
}

// ParseType reads a type cell: a type, or one of its IEC 61131-3 or usual
// names, with a width in bits or a length as in "text 8", "STRING[16]", "U32",
// "INT16U", "32 bit float". The length is that of the types that need one.
func ParseType(text string) (value.Type, int, error) {
	s, err := parseType(text)
	return s.Type, s.Length, err
}

func parseType(text string) (shaped, error) {
	s, err := readType(text)
	if err != nil {
		if again := plainType(text); again != "" && again != strings.ToLower(strings.TrimSpace(text)) {
			if other, otherErr := readType(again); otherErr == nil {
				return other, nil
			}
		}
	}
	return s, err
}

// bareWidth is a type of which only the width is said.
var bareWidth = regexp.MustCompile(`^(1|8|16|32|64)[ -]?bits?$`)

func readType(text string) (shaped, error) {
	lower := strings.ToLower(strings.TrimSpace(text))
	fields := strings.Fields(lower)
	s := shaped{}
	if len(fields) > 1 { // the last words may name the character set and the padding of a text
		if last := value.Padding(fields[len(fields)-1]); last == value.PadSpace || last == value.Counted {
			s.Padding, fields = last, fields[:len(fields)-1]
		}
		if last := value.Charset(fields[len(fields)-1]); len(fields) > 1 && slices.Contains(value.Charsets(), last) {
			s.Charset, fields = last, fields[:len(fields)-1]
		}
		lower = strings.Join(fields, " ")
	}
	if t := value.Type(lower); t.Known() {
		if least, most, needed := t.Length(); needed {
			return s, fmt.Errorf("type %q: a %s needs its length, %d to %d, such as %s %d", text, t, least, most, t,
				max(least, min(8, most)))
		}
		s.Type = t
		return s, nil
	}
	if parts := bareWidth.FindStringSubmatch(lower); parts != nil {
		if s.Type = value.Type("uint" + parts[1]); parts[1] == "1" {
			s.Type = value.TypeBool
		}
		return s, nil
	}
	word, number := splitType(lower)
	t, ok := namedType(word)
	if known := value.Type(word); !ok && known.Known() {
		t, ok = known, true
	}
	if !ok {
		t, ok = signedWord(word)
	}
	if !ok {
		return s, fmt.Errorf("type %q is not known: use bool, int16, uint16, int32, uint32, int64, uint64, float32, "+
			"float64, bits 4, enum, flags, bcd16, base10k 2, text 8, unix, cp56, time, date, dt or bytes 4", text)
	}
	if word == "wstring" {
		s.Charset = value.UTF16
	}
	least, most, needed := t.Length()
	switch {
	case needed && number == 0:
		return s, fmt.Errorf("type %q: a %s needs its length, %d to %d, such as %s %d", text, t, least, most, t,
			max(least, min(8, most)))
	case needed && t == value.TypeBase10k && number >= 16:
		s.Type, s.Length = t, number/16
		number = s.Length
	case needed:
		s.Type, s.Length = t, number
	case number == 0:
		s.Type = t
	default:
		if s.Type, ok = ofWidth(t, number); !ok {
			return s, fmt.Errorf("type %q: there is no %s of %d bits", text, t, number)
		}
	}
	if needed && (number < least || number > most) {
		return s, fmt.Errorf("type %q: the length of a %s is %d to %d", text, t, least, most)
	}
	return s, nil
}

// splitType takes a type cell apart into its letters and its one number:
// "32 bit float" gives float and 32, "int16u" gives intu and 16.
func splitType(lower string) (word string, number int) {
	if strings.HasPrefix(lower, "iec 870") || strings.HasPrefix(lower, "iec870") || strings.HasPrefix(lower, "cp56") {
		return "iec870", 0
	}
	lower = strings.Replace(lower, "754", "", 1)
	lower = strings.Replace(strings.Replace(lower, "10000", "#", 1), "10k", "#", 1)
	var letters strings.Builder
	digits := ""
	for i := 0; i < len(lower); i++ {
		switch ch := lower[i]; {
		case ch >= '0' && ch <= '9':
			if digits != "" && (lower[i-1] < '0' || lower[i-1] > '9') {
				return lower, 0 // a second number: nothing that is known
			}
			digits += string(ch)
		case ch >= 'a' && ch <= 'z' || ch == '#':
			letters.WriteByte(ch)
		case ch == '_' || ch == '-' || ch == ' ' || ch == '[' || ch == ']' || ch == '(' || ch == ')' || ch == ':' ||
			ch == '.' || ch == '/':
		default:
			return lower, 0
		}
	}
	word = letters.String()
	if digits != "" {
		number, _ = strconv.Atoi(digits) // too many digits give 0 or a number that no type has
		for _, filler := range []string{"bits", "bit", "chars", "char"} {
			if rest := strings.Replace(word, filler, "",
				1); rest != word && rest != "" && word != "bits" && word != "bitfield" && word != "bitmap" &&
				word != "bitmask" {
				word = rest
				break
			}
		}
		switch strings.Trim(word, "#") {
		case "mod", "modulo", "base", "b", "m":
			if strings.Contains(word, "#") {
				word = "mod10k"
			}
		}
	} else if strings.Contains(word, "#") {
		word = "mod10k"
	}
	return word, number
}

// signedWord reads what is left of words such as u32, int16u, unsigned integer.
func signedWord(word string) (value.Type, bool) {
	switch word {
	case "u", "ui", "uns", "intu", "uinteger", "unsignedint", "unsignedinteger", "intunsigned", "integerunsigned",
		"unsignedword", "unsignedshort", "wordunsigned":
		return value.TypeUint16, true
	case "s", "i", "si", "sgn", "ints", "signedint", "signedinteger", "intsigned", "integersigned", "signedword",
		"signedshort", "wordsigned", "sinteger":
		return value.TypeInt16, true
	case "unsignedlong", "unsigneddword", "unsigneddoubleword":
		return value.TypeUint32, true
	case "signedlong", "signeddoubleword":
		return value.TypeInt32, true
	case "f", "fp", "floating", "floatieee", "ieeefloat", "realfloat":
		return value.TypeFloat32, true
	case "bitenum", "uintenum", "enumu":
		return value.TypeEnum, true
	}
	return "", false
}
