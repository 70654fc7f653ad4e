package enip

import (
	"fmt"
	"strings"

	"ferry/internal/core/protocol"
)

// Face works out what each end counts. Elements × element size are octets; a run/idle
// header adds 4 and the sequence count of class 1 adds 2 (volume 1, clauses 3-5.5.1.1 and
// 3-6.1), at both ends alike, and the sums must be the same.
func (cyclicRules) Face(e *protocol.Ends) protocol.Facing {
	f := &facing{ends: e, counted: Counted(e.Ask)}
	f.Fixes, f.Typed, f.Rows = []protocol.EndFix{}, []protocol.TypedLine{}, []protocol.FacingRow{}
	in, out := WayIn(e.Ask), WayOut(e.Ask)
	f.way(&in, true, KeyInOctets, KeyInHead)
	f.way(&out, false, KeyOutOctets, KeyOutHead)
	f.configuration()
	f.key()
	f.alive(&in, &out)
	f.typed(&in, &out)
	return f.Facing
}

// Suits: as many octets as it has, with a header where it has one. Of a configuration with
// data it is for others to say which: zeros would set the device up.
func (cyclicRules) Suits(answer protocol.Settings) protocol.Settings {
	ask := protocol.Settings{}
	for _, way := range []struct{ octets, head, count, width, format string }{{KeyInOctets, KeyInHead, KeyInCount,
		KeyInWidth, KeyInFormat}, {KeyOutOctets, KeyOutHead, KeyOutCount, KeyOutWidth, KeyOutFormat}} {
		format := FormatPlain
		switch {
		case Cyclic.Value(answer, way.head).On():
			format = FormatHeader
		case way.octets == KeyOutOctets && Cyclic.Int(answer, way.octets) == 0:
			format = FormatHeartbeat
		}
		ask[way.count], ask[way.width] = protocol.OfInt(Cyclic.Int(answer, way.octets)), protocol.OfText("1")
		ask[way.format] = protocol.OfText(format)
	}
	if Cyclic.Value(answer, KeyWants).Text() == ConfigEmpty {
		ask[KeyConfig] = protocol.OfText(ConfigEmpty)
	}
	if least := Cyclic.Int(answer, KeyLeast); least > Cyclic.Int(nil, KeyInEvery) {
		ask[KeyInEvery] = protocol.OfInt(least)
	}
	return ask
}

type facing struct {
	protocol.Facing
	ends    *protocol.Ends
	counted bool
}

func (f *facing) answer(key string) protocol.Scalar { return Cyclic.Value(f.ends.Answer, key) }

// says is a data part in words: 9 × 32 bits = 36.
func (w *Way) says() string {
	if w.Width == 1 && w.Format != FormatCounted {
		return fmt.Sprintf("%d octets", w.Count)
	}
	return fmt.Sprintf("%d × %d bits = %d", w.Count, 8*w.Width, w.Count*w.Width)
}

// way sets one direction side by side. The parts of each end stand in the order of the
// packet, the sequence count nearest to the middle.
func (f *facing) way(w *Way, into bool, octetsKey, headKey string) {
	row := protocol.FacingWay{Area: w.Area, Into: into, IntervalMs: float64(w.EveryMs), Verdict: protocol.Agrees}
	row.Said = fmt.Sprintf("every %d ms · %s · instance %d", w.EveryMs, f.casting(into), w.Instance)
	part := func(kind, title string, octets int) protocol.FacingPart {
		return protocol.FacingPart{Kind: kind, Title: title, Octets: octets}
	}
	if w.Format == FormatHeartbeat {
		row.AskingRemark = "a sign of life, without data"
	} else {
		row.Asking = append(row.Asking, part("data", w.says(), w.Count*w.Width))
	}
	switch w.Format {
	case FormatHeader:
		row.Asking = append(row.Asking, part("header", "run/idle 4", headerOctets))
	case FormatCounted:
		row.AskingRemark = "the first 4 octets of it are the header"
	case FormatPlain:
		if !into || f.answer(headKey).On() {
			row.AskingRemark = "no header stated"
		}
	}
	octets, head := f.answer(octetsKey).Int(), f.answer(headKey).On()
	known := f.ends.Knows(octetsKey) && (octets > 0 || w.Format == FormatHeartbeat)
	if f.counted {
		row.Asking = append(row.Asking, part("sequence", "seq 2", countOctets))
		row.Answering = append(row.Answering, part("sequence", "seq 2", countOctets))
	}
	if w.Format == FormatHeartbeat {
		octets, head = 0, false
	}
	if head {
		row.Answering = append(row.Answering, part("header", "run/idle 4", headerOctets))
		row.AnswerRemark = map[bool]string{true: "gives a run/idle header in front",
			false: "wants a run/idle header in front"}[into]
	}
	if octets > 0 {
		row.Answering = append(row.Answering, part("data", fmt.Sprintf("%d octets", octets), octets))
	}
	row.AskingOctets, row.AnswerOctets = sum(row.Asking), sum(row.Answering)
	if reserve := w.Array - w.Count; w.Array > 0 && reserve > 0 {
		row.AskingRemark = strings.TrimPrefix(row.AskingRemark+fmt.Sprintf("; array of %d, first %d exchanged", w.Array,
			w.Count), "; ")
	}
	row.Free, row.BeyondExchange = max(0, w.Octets()-f.ends.Used[w.Area]), max(0, f.ends.Used[w.Area]-w.Octets())
	if row.BeyondExchange > 0 {
		row.AnswerRemark = strings.TrimPrefix(row.AnswerRemark+fmt.Sprintf("; the map goes %d octets further, which are kept in reserve",
			row.BeyondExchange), "; ")
	}
	switch apart := row.AskingOctets - row.AnswerOctets; {
	case !known:
		row.Verdict, row.Says = protocol.Unsure, "its size is not known"
	case apart != 0:
		row.Verdict, row.Says = protocol.Differs, fmt.Sprintf("%d octets apart", max(apart, -apart))
		f.sizes(w, into, &row, octets, head, octetsKey, headKey)
	case head != w.Head() && w.Format != FormatHeartbeat:
		row.Verdict, row.Says = protocol.Differs, "the same sum, but not the same parts"
		f.sizes(w, into, &row, octets, head, octetsKey, headKey)
	default:
		row.Says = fmt.Sprintf("both say %d octets", row.AskingOctets)
	}
	if !f.ends.Knows(headKey) && row.Verdict == protocol.Agrees && w.Format != FormatHeartbeat {
		row.Verdict, row.Says = protocol.Unsure, "whether it has a header is not known"
	}
	if least := f.answer(KeyLeast).Int(); f.ends.Knows(KeyLeast) && into && w.EveryMs < least {
		row.Verdict, row.Says = protocol.Differs, fmt.Sprintf("it sends every %d ms at the most often", least)
		f.refuse(ext(0x0111), fmt.Sprintf("It is asked to send every %d ms, and cannot send more often than every %d ms.",
			w.EveryMs, least))
		f.fix("Ask for "+fmt.Sprint(least)+" ms", "at "+f.ends.Asking,
			protocol.Settings{KeyInEvery: protocol.OfInt(least)}, nil)
	}
	f.Ways = append(f.Ways, row)
}

func sum(parts []protocol.FacingPart) (n int) {
	for _, p := range parts {
		n += p.Octets
	}
	return n
}

func (f *facing) casting(into bool) string {
	if into && Cyclic.Value(f.ends.Ask, KeyInCast).Text() == "many" {
		return "to many"
	}
	return "to one"
}

// refuse notes the first reason for which the answering end does not take it.
func (f *facing) refuse(code int, says string) {
	if f.Refused != nil {
		return
	}
	why := Cyclic.Decline(code)
	_, extended := StatusOf(code)
	f.Refused = &protocol.FacingRefusal{Title: strings.ToLower(why.Title[:1]) +
		strings.TrimSuffix(why.Title[1:], " ("+Status(code)+")"),
		Says: says, Code: code, Shown: fmt.Sprintf("0x01 / 0x%04X", extended)}
}

func (f *facing) fix(title, detail string, ask, answer protocol.Settings) {
	f.Fixes = append(f.Fixes, protocol.EndFix{Title: title, Detail: detail, Ask: ask, Answer: answer})
}

// sizes says why one direction does not come to the same, and how it can.
func (f *facing) sizes(w *Way, into bool, row *protocol.FacingWay, octets int, head bool, octetsKey, headKey string) {
	code, direction := ext(0x0127), "towards it"
	countKey, formatKey := KeyOutCount, KeyOutFormat
	if into {
		code, direction, countKey, formatKey = ext(0x0128), "from it", KeyInCount, KeyInFormat
	}
	ask, answer := f.ends.Asking, f.ends.Answering
	says := fmt.Sprintf("%s counts %d octets %s, and %s counts %d", answer, row.AnswerOctets, direction, ask,
		row.AskingOctets)
	fits := func(n int) bool { return n >= 0 && n%w.Width == 0 }
	stated := w.Count * w.Width
	switch {
	case head && !w.Head():
		if row.AnswerOctets-row.AskingOctets == headerOctets {
			says += ": the header of 4 is missing"
		} else {
			says += ", and the header of 4 is missing"
		}
		f.refuse(code, says+".")
		f.fix(map[bool]string{true: "Expect the run/idle header", false: "Send the run/idle header"}[into],
			fmt.Sprintf("in %s; then %d of %d", ask, row.AskingOctets+headerOctets, row.AnswerOctets),
			protocol.Settings{formatKey: protocol.OfText(FormatHeader)}, nil)
		if fits(stated + headerOctets) {
			f.fix("Its tool has no such switch: state 4 octets more",
				"the first 4 octets are then the header, and its own map moves by 4",
				protocol.Settings{formatKey: protocol.OfText(FormatCounted),
					countKey: protocol.OfInt((stated + headerOctets) / w.Width)}, nil)
		}
		f.fix("It has no header after all", "in "+answer, nil, protocol.Settings{headKey: protocol.OfSwitch(false)})
		return
	case !head && w.Head():
		if row.AskingOctets-row.AnswerOctets == headerOctets {
			says += ": the header of 4 is too much"
		} else {
			says += ", and " + answer + " has no header"
		}
		f.refuse(code, says+".")
		f.fix("Leave the run/idle header out", fmt.Sprintf("in %s; then %d of %d", ask, row.AskingOctets-headerOctets,
			row.AnswerOctets),
			protocol.Settings{formatKey: protocol.OfText(FormatPlain), countKey: protocol.OfInt(w.Octets() / w.Width)}, nil)
		f.fix("It has a header", "in "+answer, nil, protocol.Settings{headKey: protocol.OfSwitch(true)})
		return
	}
	need := octets
	if w.Format == FormatCounted {
		need += headerOctets
	}
	switch apart := need - stated; {
	case w.Width > 1 && w.Count == octets:
		says += ": one end counts elements and the other octets"
	case apart == headerOctets || apart == -headerOctets:
		says += ": 4 apart, as a header is that one end counts within its size"
	case apart == countOctets || apart == -countOctets:
		says += ": 2 apart, as a sequence count is that one end counts within its size"
	}
	f.refuse(code, says+".")
	if fits(need) {
		f.fix(fmt.Sprintf("Exchange %d elements", need/w.Width), fmt.Sprintf("in %s; then %d of %d", ask,
			row.AskingOctets+need-stated, row.AnswerOctets), protocol.Settings{countKey: protocol.OfInt(need / w.Width)}, nil)
	} else {
		f.fix(fmt.Sprintf("Exchange %d octets", need), "in "+ask+", counted in elements of 8 bits",
			protocol.Settings{countKey: protocol.OfInt(need), widthOf(into): protocol.OfText("1")}, nil)
	}
	f.fix(fmt.Sprintf("It has %d octets", w.Octets()), "in "+answer+", if its tool lets the size be set", nil,
		protocol.Settings{octetsKey: protocol.OfInt(w.Octets())})
}

func widthOf(into bool) string {
	if into {
		return KeyInWidth
	}
	return KeyOutWidth
}

// configuration: none, an empty one and one with data are three different things.
func (f *facing) configuration() {
	sends, wants := Cyclic.Value(f.ends.Ask, KeyConfig).Text(), f.answer(KeyWants).Text()
	size := f.answer(KeyWantsSize).Int()
	data, err := ConfigOctets(f.ends.Ask)
	_, told := f.ends.Answer[KeyWantsSize]
	empty := told && size == 0 && !f.ends.Knows(KeyWants)
	row := protocol.FacingRow{Title: "Configuration", Area: AreaConfig, Verdict: protocol.Agrees, Says: "both say so",
		Said: fmt.Sprintf("instance %d · %s", Cyclic.Int(f.ends.Ask, KeyConfigAt), map[string]string{ConfigNone: "none sent",
			ConfigEmpty: "an empty one sent", ConfigData: fmt.Sprintf("%d octets sent", len(data))}[sends])}
	differs := func(code int, says string) {
		row.Verdict, row.Says = protocol.Differs, says
		f.refuse(code, strings.ToUpper(says[:1])+says[1:]+".")
	}
	switch {
	case sends == ConfigData && err != nil:
		row.Verdict, row.Says = protocol.Differs, err.Error()
	case empty && sends == ConfigEmpty:
		row.Says = "the one of the device has no octets"
	case empty && sends == ConfigNone:
		row.Verdict, row.Says = protocol.Unsure, "the device has an empty one, and may want it sent"
		f.fix("Send an empty configuration", "in "+f.ends.Asking+"; a device that has one without octets takes that",
			protocol.Settings{
				KeyConfig: protocol.OfText(ConfigEmpty)}, nil)
	case !f.ends.Knows(KeyWants):
		row.Asks = true
		row.Verdict, row.Says = protocol.Unsure, "not known whether it wants an empty one"
	case wants == "any" && sends == ConfigNone:
	case wants == ConfigEmpty && sends != ConfigEmpty:
		differs(ext(0x0126), "it wants an empty configuration")
		f.fix("Send an empty configuration", "in "+f.ends.Asking,
			protocol.Settings{KeyConfig: protocol.OfText(ConfigEmpty)}, nil)
	case wants == ConfigNone && sends != ConfigNone:
		differs(ext(0x0129), "it has no configuration")
		f.fix("Send no configuration", "in "+f.ends.Asking, protocol.Settings{KeyConfig: protocol.OfText(ConfigNone)}, nil)
	case wants == ConfigData && sends != ConfigData:
		differs(ext(0x0126), fmt.Sprintf("it wants a configuration of %d octets", size))
		f.fix("Send a configuration",
			fmt.Sprintf("in %s; %d octets of zero: set its points, or take what the device holds, before it is opened",
				f.ends.Asking, size), protocol.Settings{
				KeyConfig: protocol.OfText(ConfigData), KeyConfigData: protocol.OfText(strings.TrimSpace(strings.Repeat("00 ",
					size)))}, nil)
	case wants == ConfigData && f.ends.Knows(KeyWantsSize) && size != len(data):
		differs(ext(0x0126), fmt.Sprintf("it wants %d octets of configuration, and %d are sent", size, len(data)))
	}
	f.Rows = append(f.Rows, row)
}

// key says what the electronic key asks for.
func (f *facing) key() {
	k, use := KeyOf(f.ends.Ask), Cyclic.Value(f.ends.Ask, KeyKey).Text()
	row := protocol.FacingRow{Title: "Electronic key", Said: "off: any device is taken", Verdict: protocol.Agrees,
		Says: "nothing is compared"}
	if use != KeyOff {
		row.Said = fmt.Sprintf("%s · vendor %d, type %d, product %d, revision %d.%d", use, k.Vendor, k.Type, k.Product,
			k.Major, k.Minor)
		row.Says = "compared when it connects"
		if k == (Key{}) {
			row.Verdict, row.Says = protocol.Unsure, "its numbers are all 0: any device is taken"
		}
		if is, ok := IdentityOf(f.answer(KeyIdentity).Text()); ok {
			row.Says = "it is that device"
			if extended := k.Fits(is, use == KeyCompatible); extended != 0 {
				row.Verdict, row.Says = protocol.Differs, "it is another: "+f.answer(KeyIdentity).Text()
				f.refuse(ext(int(extended)),
					fmt.Sprintf("The key asks for vendor %d, type %d, product %d, revision %d.%d, and it is %s.",
						k.Vendor, k.Type, k.Product, k.Major, k.Minor, f.answer(KeyIdentity).Text()))
				f.fix("Set the key to what it is", "in "+f.ends.Asking, is.settings(), nil)
				f.fix("Switch the key off", "in "+f.ends.Asking+"; then any device is taken",
					protocol.Settings{KeyKey: protocol.OfText(KeyOff)}, nil)
			}
		}
	}
	f.Rows = append(f.Rows, row)
}

// Key is which device is meant; 0 of a number is any.
type Key struct{ Vendor, Type, Product, Major, Minor int }

// KeyOf reads the electronic key.
func KeyOf(s protocol.Settings) Key {
	return Key{Cyclic.Int(s, KeyVendor), Cyclic.Int(s, KeyType), Cyclic.Int(s, KeyProduct), Cyclic.Int(s, KeyMajor),
		Cyclic.Int(s, KeyMinor)}
}

func (k Key) settings() protocol.Settings {
	n := protocol.OfInt
	return protocol.Settings{KeyVendor: n(k.Vendor), KeyType: n(k.Type), KeyProduct: n(k.Product), KeyMajor: n(k.Major),
		KeyMinor: n(k.Minor)}
}

// IdentityOf reads vendor, type, product and revision as the setting has them.
func IdentityOf(text string) (k Key, ok bool) {
	n, err := fmt.Sscanf(text, "%d/%d/%d/%d.%d", &k.Vendor, &k.Type, &k.Product, &k.Major, &k.Minor)
	return k, n == 5 && err == nil
}

// Text is an identity as the setting has it.
func (k Key) Text() string {
	return fmt.Sprintf("%d/%d/%d/%d.%d", k.Vendor, k.Type, k.Product, k.Major, k.Minor)
}

// Fits compares an electronic key with who a device is: 0 is that it fits, else the
// extended status of the refusal (volume 1, appendix C-1.4.2.4 and table 3-5.29).
func (k Key) Fits(is Key, compatible bool) (extended uint16) {
	other := func(a, b int) bool { return a != 0 && a != b }
	switch {
	case other(k.Vendor, is.Vendor), other(k.Product, is.Product):
		return 0x0114
	case other(k.Type, is.Type):
		return 0x0115
	case other(k.Major, is.Major), k.Major != 0 && compatible && k.Minor > is.Minor, k.Major != 0 && !compatible &&
		other(k.Minor, is.Minor):
		return 0x0116
	}
	return 0
}

// alive works out the time-outs and the packets a second.
func (f *facing) alive(in, out *Way) {
	times := float64(Multiplier(f.ends.Ask))
	a := protocol.FacingAlive{Multiplier: int(times), InMs: float64(in.EveryMs), OutMs: float64(out.EveryMs),
		Bears: f.ends.PerSecond, Verdict: protocol.Agrees}
	a.InDropsMs, a.OutDropsMs = times*a.InMs, times*a.OutMs
	a.PerSecond = 1000/a.InMs + 1000/a.OutMs
	all := a.PerSecond + f.ends.OthersPerSecond
	a.Says = fmt.Sprintf("%s packets a second", number(a.PerSecond))
	if n := f.ends.Others; n > 0 {
		a.Says = fmt.Sprintf("%s packets a second, %s with the %d other %s to it", number(a.PerSecond), number(all), n,
			map[bool]string{true: "link", false: "links"}[n == 1])
	}
	switch most := f.ends.Connections; {
	case a.Bears > 0 && all > a.Bears:
		a.Verdict, a.Says = protocol.Differs, a.Says+fmt.Sprintf(", and the device bears %s", number(a.Bears))
	case most > 0 && 1+f.ends.Others > most:
		a.Verdict, a.Says = protocol.Differs, a.Says+fmt.Sprintf("; %d connections, and the device takes %d", 1+f.ends.Others,
			most)
		f.refuse(ext(0x0113), fmt.Sprintf("%d links go to %s, which takes %d connections: the last to come is turned away.",
			1+f.ends.Others, f.ends.Answering, most))
	case a.Bears > 0:
		a.Says += fmt.Sprintf(" of %s the device bears", number(a.Bears))
	}
	f.Alive = a
}

func number(n float64) string {
	if n == float64(int(n)) {
		return fmt.Sprint(int(n))
	}
	return fmt.Sprintf("%.1f", n)
}

// typed lists what has to be typed at the far end.
func (f *facing) typed(in, out *Way) {
	add := func(key, title, format string, args ...any) {
		f.Typed = append(f.Typed, protocol.TypedLine{Key: key, Title: title, Value: fmt.Sprintf(format, args...)})
	}
	elements := func(w *Way) string {
		if w.Format == FormatHeartbeat {
			return "none"
		}
		return fmt.Sprintf("%d × %d bit", w.Count, 8*w.Width)
	}
	formats := map[string]string{FormatPlain: "data alone", FormatHeader: "run/idle header",
		FormatCounted: "data alone, 4 octets more", FormatHeartbeat: "sign of life"}
	add("in.instance", "in, instance", "%d", in.Instance)
	add("in.elements", "in, elements", "%s", elements(in))
	add("in.format", "in, format", "%s", formats[in.Format])
	add("out.instance", "out, instance", "%d", out.Instance)
	add("out.elements", "out, elements", "%s", elements(out))
	add("out.format", "out, format", "%s", formats[out.Format])
	add("config", "configuration", "%d, %s", Cyclic.Int(f.ends.Ask, KeyConfigAt), map[string]string{ConfigNone: "none",
		ConfigEmpty: "empty", ConfigData: "with data"}[Cyclic.Value(f.ends.Ask, KeyConfig).Text()])
	add("intervals", "intervals", "%d, %d ms", in.EveryMs, out.EveryMs)
	add("casting", "in goes", "%s", f.casting(true))
	add("multiplier", "time-out", "× %d", Multiplier(f.ends.Ask))
}
