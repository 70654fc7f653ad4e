package main

import (
	"fmt"
	"net"
	"net/url"
	"os"
	"strconv"
	"strings"

	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// target is a device given by a URL.
type target struct {
	link   site.Link
	target field.Target
	def    *protocol.Def
}

// parseTarget reads a URL: PROTOCOL://HOST:PORT?SETTING=VALUE. The
// query may hold any setting of the protocol; a secret or a file is given as the
// path of a file that holds it, so that no list of commands shows it.
func parseTarget(text string) (*target, error) {
	u, err := url.Parse(text)
	if err != nil {
		return nil, fmt.Errorf("%q is not a URL such as %s://127.0.0.1?timeout=500", text, protocol.MapOr(""))
	}
	def, ok := protocol.Named(u.Scheme)
	if !ok || def.MapOnly {
		names := []string{}
		for _, d := range protocol.All() {
			if !d.MapOnly {
				names = append(names, d.Name)
			}
		}
		return nil, fmt.Errorf("%q: protocol %q is not known; this version speaks %s", text, u.Scheme,
			strings.Join(names, ", "))
	}
	onSerial := def.Medium == site.SerialLine
	if onSerial && u.Path == "" {
		return nil, fmt.Errorf("%q names no port: write %s:///dev/ttyUSB0?baud=19200&parity=E&stop=1%s", text,
			def.Name, stationQuery(def, "&"))
	}
	if !onSerial && u.Hostname() == "" {
		return nil, fmt.Errorf("%q names no host: write %s://127.0.0.1%s", text, def.Name, stationQuery(def, "?"))
	}
	t := &target{def: def, link: site.Link{ID: "cli", Asking: "ferry", Answering: "device", Line: "line",
		Protocol: def.Name, Settings: protocol.Settings{}}}
	query := u.Query()
	if u.Port() != "" {
		query.Set("port", u.Port())
	}
	if onSerial {
		t.target = field.Target{Dial: u.Path, Format: serial.Usual}
		if err := serialFormat(query, &t.target.Format); err != nil {
			return nil, fmt.Errorf("%q: %w", text, err)
		}
	}
	for key, values := range query {
		name := key
		if key == "timeout" {
			name = protocol.KeyWithin
		}
		setting, ok := def.Setting(name)
		if !ok {
			return nil, fmt.Errorf("%q: %s has no setting %q", text, def.Title, key)
		}
		v, err := setting.Read(values[len(values)-1])
		if err != nil {
			return nil, fmt.Errorf("%q: %w", text, err)
		}
		t.link.Settings[name] = v
	}
	t.target.Kept = func(_ protocol.Kind, name string) ([]byte, error) { return os.ReadFile(name) }
	if !onSerial {
		t.target.Control = field.MayDial
		t.target.Dial = net.JoinHostPort(u.Hostname(), strconv.Itoa(def.Int(t.link.Settings, protocol.KeyPort)))
	}
	return t, nil
}

// stationQuery is the part of a URL that names a station, behind by.
func stationQuery(def *protocol.Def, by string) string {
	if def.Station == "" {
		return ""
	}
	return by + def.Station + "=1"
}

// serialFormat takes baud, parity, data and stop out of the query of a URL.
func serialFormat(query url.Values, f *serial.Format) error {
	for _, number := range []struct {
		key  string
		into *int
	}{{"baud", &f.Baud}, {"data", &f.Data}, {"stop", &f.Stop}} {
		if text := query.Get(number.key); text != "" {
			n, err := strconv.Atoi(text)
			if err != nil {
				return fmt.Errorf("%s=%s is not a whole number", number.key, text)
			}
			*number.into = n
		}
		query.Del(number.key)
	}
	if text := query.Get("parity"); text != "" {
		parity, ok := map[string]serial.Parity{"N": serial.None, "E": serial.Even, "O": serial.Odd, "NONE": serial.None,
			"EVEN": serial.Even, "ODD": serial.Odd}[strings.ToUpper(text)]
		if !ok {
			return fmt.Errorf("parity=%s: write N, E or O", text)
		}
		f.Parity = parity
	}
	query.Del("parity")
	return f.Check()
}

// device makes a device with the given points behind the target.
func (t *target) device(points []site.Point) *site.Device {
	return &site.Device{ID: "device", Name: t.target.Dial, Map: t.def.Name,
		Ports: []site.Port{{Line: "line", Protocol: t.def.Name}}, Points: points}
}

// example is how a point of a protocol is written.
func example(def *protocol.Def) string {
	return def.Example + ":float32"
}

// parsePoint reads ADDRESS[:TYPE[:ORDER]]: the address in any notation of the
// protocol. A text has its length behind its type: text8.
func parsePoint(def *protocol.Def, text string) (site.Point, error) {
	parts := cut(def, text)
	if len(parts) > 3 {
		return site.Point{}, fmt.Errorf("point %q: write ADDRESS:TYPE:ORDER, such as %s", text, example(def))
	}
	columns := []regmap.Column{regmap.Address, regmap.Type, regmap.Order}[:len(parts)]
	table := regmap.Listing{Columns: columns, Rows: []regmap.Row{{Line: 1, Cells: parts}}}
	points, _, rejected := table.Points(def.Scheme)
	if len(rejected) > 0 {
		return site.Point{}, fmt.Errorf("point %q: %s", text, rejected[0].Reason)
	}
	if len(points) == 0 {
		return site.Point{}, fmt.Errorf("point %q is empty: write ADDRESS:TYPE:ORDER, such as %s", text, example(def))
	}
	points[0].Name = text
	return points[0], nil
}

// cut parts an address from a type and an order behind it. An address may hold colons
// itself: what ends with a type, or with a type and an order, has its address before them.
func cut(def *protocol.Def, text string) []string {
	parts := strings.Split(text, ":")
	at := func(n int) (whole []string, is bool) {
		address := strings.Join(parts[:n], ":")
		_, err := def.Scheme.Parse(address, "")
		return append([]string{address}, parts[n:]...), err == nil
	}
	for n := len(parts) - 1; n >= max(1, len(parts)-2); n-- {
		if _, _, err := regmap.ParseType(parts[n]); err == nil {
			if whole, is := at(n); is {
				return whole
			}
		}
	}
	for n := len(parts); n > 1; n-- {
		if whole, is := at(n); is {
			return whole
		}
	}
	return parts
}

// parsePoints reads several points and numbers them.
func parsePoints(def *protocol.Def, args []string) ([]site.Point, error) {
	points := make([]site.Point, 0, len(args))
	for i, arg := range args {
		p, err := parsePoint(def, arg)
		if err != nil {
			return nil, err
		}
		p.ID = strconv.Itoa(i)
		points = append(points, p)
	}
	return points, nil
}

// parseAssignment splits POINT=VALUE.
func parseAssignment(def *protocol.Def, text string) (site.Point, value.Value, error) {
	// An address may hold the sign, too, and so may a value: the last one counts before which a
	// point stands.
	i := strings.LastIndexByte(text, '=')
	if i < 1 {
		return site.Point{}, value.Value{}, fmt.Errorf("%q: write POINT=VALUE, such as %s=450", text, example(def))
	}
	p, err := parsePoint(def, text[:i])
	for err != nil && strings.LastIndexByte(text[:i], '=') > 0 {
		i = strings.LastIndexByte(text[:i], '=')
		p, err = parsePoint(def, text[:i])
	}
	if err != nil {
		return p, value.Value{}, err
	}
	v, err := value.Parse(text[i+1:], p.Type)
	if err != nil {
		return p, value.Value{}, fmt.Errorf("point %q: %w", text[:i], err)
	}
	p.Access = site.ReadWrite
	return p, v, nil
}
