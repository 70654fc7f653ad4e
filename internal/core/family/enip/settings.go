package enip

import "ferry/internal/core/protocol"

// Keys of settings of a cyclic connection.
const (
	KeyInInstance  = "inInstance"
	KeyOutInstance = "outInstance"
	KeyInCount     = "inCount"
	KeyInWidth     = "inWidth"
	KeyInFormat    = "inFormat"
	KeyInArray     = "inArray"
	KeyInEvery     = "inEveryMs"
	KeyInCast      = "inCast"
	KeyOutCount    = "outCount"
	KeyOutWidth    = "outWidth"
	KeyOutFormat   = "outFormat"
	KeyOutArray    = "outArray"
	KeyOutEvery    = "outEveryMs"
	KeyClass       = "class"
	KeyMultiplier  = "multiplier"
	KeyPriority    = "priority"
	KeyLength      = "length"
	KeyConfig      = "config"
	KeyConfigAt    = "configInstance"
	KeyConfigData  = "configData"
	KeyKey         = "key"
	KeyVendor      = "vendor"
	KeyType        = "deviceType"
	KeyProduct     = "product"
	KeyMajor       = "major"
	KeyMinor       = "minor"
	KeyCyclicPort  = "cyclicPort"

	KeyInOctets  = "inOctets"
	KeyInHead    = "inHead"
	KeyOutOctets = "outOctets"
	KeyOutHead   = "outHead"
	KeyWants     = "wantsConfig"
	KeyWantsSize = "configOctets"
	KeyLeast     = "leastMs"
	KeyIdentity  = "identity"
)

// The real-time formats (volume 1, clause 3-6.1), as settings have them.
const (
	FormatPlain     = "plain"     // data alone
	FormatHeader    = "header"    // 32 bits in front, whose lowest says run
	FormatCounted   = "counted"   // the same, in a tool that has no switch for it: 4 octets more are stated
	FormatHeartbeat = "heartbeat" // no data: a sign of life
)

// The ways to send a configuration.
const (
	ConfigNone  = "none"
	ConfigEmpty = "empty"
	ConfigData  = "data"
)

// The uses of the electronic key.
const (
	KeyOff        = "off"
	KeyCompatible = "compatible"
	KeyExact      = "exact"
)

// headerOctets is the run/idle header, countOctets the sequence count of transport class 1.
const (
	headerOctets = 4
	countOctets  = 2
)

func choice(values ...string) (list []protocol.Option) {
	for i := 0; i+1 < len(values); i += 2 {
		list = append(list, protocol.Option{Value: values[i], Title: values[i+1]})
	}
	return list
}

var widths = choice("1", "8 bits", "2", "16 bits", "4", "32 bits", "8", "64 bits")

// ofWay are the settings of one direction at the asking end.
func ofWay(title, count, width, format, array, every string, formats []protocol.Option,
	usual string) []protocol.Setting {
	return []protocol.Setting{
		{Key: count, Title: title + ", elements", End: protocol.Asking, Least: 0, Most: mostAssembly,
			Help:  "How many are exchanged, as the tool of this end counts them. Reserve of an array is left out.",
			Stop:  "session",
			Shows: "the connection is refused for its size"},
		{Key: width, Title: title + ", each of", Kind: protocol.Choice, End: protocol.Asking, Default: protocol.OfText("1"),
			Choices: widths, Stop: "session"},
		{Key: array, Title: title + ", array of", End: protocol.Asking, Least: 0, Most: mostAssembly,
			Help: "How many elements the array at this end has, 0 for those that are exchanged: the rest is reserve.",
			Stop: "points"},
		{Key: format, Title: title + ", format", Kind: protocol.Choice, End: protocol.Asking, Default: protocol.OfText(usual),
			Choices: formats, Stop: "session", Shows: "the connection is refused for its size"},
		{Key: every, Title: title + ", every", Unit: "ms", End: protocol.Asking, Default: protocol.OfInt(50), Least: 1,
			Most: 60_000,
			Help: "The requested packet interval of this direction.", Stop: "pace", Shows: "interval not supported"},
	}
}

func cyclicSettings() (list []protocol.Setting) {
	both := func(key, title string, usual int) protocol.Setting {
		return protocol.Setting{Key: key, Title: title, End: protocol.BothEnds, Default: protocol.OfInt(usual), Least: 0,
			Most: 65535, Stop: "session", Shows: "an instance that is not there refuses the connection"}
	}
	number := func(key, title string, most int) protocol.Setting {
		return protocol.Setting{Key: key, Title: title, End: protocol.Asking, Least: 0, Most: most, Stop: "session"}
	}
	list = []protocol.Setting{
		{Key: protocol.KeyPort, Title: "TCP port", End: protocol.BothEnds, Default: protocol.OfInt(44818), Least: 1,
			Most: 65535, Help: "44818 is that of the standard.", Stop: "address", Shows: "the connection is refused"},
		both(KeyInInstance, "Instance in", 100), both(KeyOutInstance, "Instance out", 150),
		both(KeyConfigAt, "Instance of configuration", 151),
	}
	list = append(list, ofWay("In", KeyInCount, KeyInWidth, KeyInFormat, KeyInArray, KeyInEvery,
		choice(FormatPlain, "data alone", FormatHeader, "with a run/idle header", FormatCounted, "header counted as data"),
		FormatPlain)...)
	list = append(list, ofWay("Out", KeyOutCount, KeyOutWidth, KeyOutFormat, KeyOutArray, KeyOutEvery,
		choice(FormatHeader, "with a run/idle header", FormatPlain, "data alone", FormatCounted, "header counted as data",
			FormatHeartbeat, "a sign of life alone"), FormatHeader)...)
	return append(list,
		protocol.Setting{Key: KeyInCast, Title: "In goes", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText("one"),
			Choices: choice("one", "to one (unicast)", "many", "to many (multicast)"), Stop: "points",
			Shows: "nothing arrives, where a switch swallows it"},
		protocol.Setting{Key: KeyClass, Title: "Transport class", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText("1"),
			Choices: choice("1", "1, with a sequence count", "0", "0, without one"), Stop: "session",
			Shows: "transport class not supported"},
		protocol.Setting{Key: KeyMultiplier, Title: "Time-out after", Unit: "intervals", Kind: protocol.Choice,
			End:     protocol.Asking,
			Default: protocol.OfText("4"), Choices: choice("4", "4", "8", "8", "16", "16", "32", "32", "64", "64", "128", "128",
				"256", "256", "512", "512"),
			Stop: "pace"},
		protocol.Setting{Key: KeyPriority, Title: "Priority", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText("scheduled"),
			Choices: choice("low", "low", "high", "high", "scheduled", "scheduled", "urgent", "urgent"), Stop: "session"},
		protocol.Setting{Key: KeyLength, Title: "Length", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText("fixed"), Choices: choice("fixed", "fixed", "variable", "variable"), Stop: "session"},
		protocol.Setting{Key: KeyConfig, Title: "Configuration", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText(ConfigNone),
			Choices: choice(ConfigNone, "none is sent", ConfigEmpty, "an empty one", ConfigData, "with data"), Stop: "session",
			Shows: "configuration size wrong, or not configured"},
		protocol.Setting{Key: KeyConfigData, Title: "Its data", Kind: protocol.Text, End: protocol.Asking,
			Like: "01 00 2C 01", Most: 1500,
			Pattern: `(?:[0-9A-Fa-f]{2}\s*)*`, Help: "Octets in hexadecimal, as the device wants them.", Stop: "session"},
		protocol.Setting{Key: KeyKey, Title: "Electronic key", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText(KeyOff),
			Choices: choice(KeyOff, "off", KeyCompatible, "compatible", KeyExact, "exact"), Stop: "session",
			Shows: "vendor, product, type or revision mismatch"},
		number(KeyVendor, "Key, vendor", 65535), number(KeyType, "Key, device type", 65535),
		number(KeyProduct, "Key, product", 65535),
		number(KeyMajor, "Key, major revision", 127), number(KeyMinor, "Key, minor revision", 255),
		protocol.Setting{Key: KeyRoute, Title: "Route", Kind: protocol.Text, End: protocol.Asking, Like: "1,0",
			Help: "Through which ports to the module, where it is not the one that has the address.", Stop: "session"},
		protocol.Setting{Key: KeyCyclicPort, Title: "UDP port", End: protocol.Asking, Default: protocol.OfInt(2222), Least: 1,
			Most: 65535,
			Help: "2222 is that of the standard. Where another program of this machine has it, Ferry asks for packets at a free one.", Stop: "points"},
		protocol.Setting{Key: protocol.KeyWithin, Title: "Answer within", Unit: "ms", End: protocol.Asking,
			Default: protocol.OfInt(1000), Least: 20,
			Most: 60000, Stop: "session", Shows: "a slow device is taken for a dead one"},

		protocol.Setting{Key: KeyInOctets, Title: "Gives, octets", End: protocol.Answering, Least: 0, Most: mostAssembly,
			Help: "The size of the assembly that it produces, without header and sequence count.", Stop: "session"},
		protocol.Setting{Key: KeyInHead, Title: "Gives a header", Kind: protocol.Switch, End: protocol.Answering,
			Stop: "session"},
		protocol.Setting{Key: KeyOutOctets, Title: "Takes, octets", End: protocol.Answering, Least: 0, Most: mostAssembly,
			Help: "The size of the assembly that it consumes, without header and sequence count.", Stop: "session"},
		protocol.Setting{Key: KeyOutHead, Title: "Wants a header", Kind: protocol.Switch, End: protocol.Answering,
			Default: protocol.OfSwitch(true), Stop: "session"},
		protocol.Setting{Key: KeyWants, Title: "Configuration", Kind: protocol.Choice, End: protocol.Answering,
			Default: protocol.OfText("any"),
			Choices: choice("any", "takes none as well", ConfigEmpty, "wants an empty one", ConfigData, "wants data", ConfigNone,
				"has none"), Stop: "session"},
		protocol.Setting{Key: KeyWantsSize, Title: "Configuration, octets", End: protocol.Answering, Least: 0,
			Most: mostConfig, Stop: "session"},
		protocol.Setting{Key: KeyIdentity, Title: "Is", Kind: protocol.Text, End: protocol.Answering, Like: "1234/43/65/2.1",
			Pattern: `\d{1,5}/\d{1,5}/\d{1,5}/\d{1,3}\.\d{1,3}`, Stop: "session",
			Help: "Vendor, device type, product and revision, as the device or its label says."},
		protocol.Setting{Key: KeyLeast, Title: "Least interval", Unit: "ms", End: protocol.Answering, Least: 0, Most: 60_000,
			Stop: "pace", Help: "The shortest interval at which it can send, 0 for not known."},
	)
}
