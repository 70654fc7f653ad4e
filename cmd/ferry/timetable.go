package main

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
	"ferry/internal/files"
)

func timetableCommand() *cobra.Command {
	c := &cobra.Command{Use: "timetable SITE.json",
		Short: "Pack the points of a site, or of one list, into requests and say what they cost",
		Args:  cobra.MaximumNArgs(1)}
	asJSON := c.Flags().Bool("json", false, "print one JSON object")
	list := c.Flags().String("map", "", "a list of points in place of a site: CSV, XLSX, JSON or IEC 61131-10 XML")
	line := c.Flags().String("line", "tcp",
		"line of the list: the protocol, or the end of its name, and for a serial line its format, as in rtu:19200:8E1")
	think := c.Flags().Int("think", -1, "milliseconds for which the device of the list thinks")
	silent := c.Flags().StringSlice("silent", nil, "devices that are taken for silent, by name or id")
	var flags mapFlags
	flags.on(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		if (len(args) == 1) == (*list != "") {
			return fmt.Errorf("give a site file, or a list with --map")
		}
		var s *site.Site
		var err error
		if *list != "" {
			s, err = listOnLine(&flags, *list, *line, *think)
		} else {
			var data []byte
			if data, err = os.ReadFile(args[0]); err == nil {
				s, err = files.ReadSite(data)
			}
		}
		if err != nil {
			return err
		}
		ids, err := deviceIDs(s, *silent)
		if err != nil {
			return err
		}
		plan := timetable.CompileSilent(s, ids)
		if *asJSON {
			err = printJSON(c.OutOrStdout(), plan)
		} else {
			printPlan(c, s, plan)
		}
		if err != nil {
			return err
		}
		if len(plan.Findings) > 0 {
			return errFound
		}
		return nil
	}
	return c
}

func deviceIDs(s *site.Site, names []string) ([]string, error) {
	var ids []string
	for _, name := range names {
		found := false
		for i := range s.Devices {
			if d := &s.Devices[i]; d.ID == name || strings.EqualFold(d.Name, name) {
				ids, found = append(ids, d.ID), true
			}
		}
		if !found {
			return nil, fmt.Errorf("no device of the site is called %q", name)
		}
	}
	return ids, nil
}

// listOnLine makes a site of one list of points on one line.
func listOnLine(flags *mapFlags, path, text string, think int) (*site.Site, error) {
	kind, format, framed := strings.Cut(text, ":")
	def, ok := protocol.Short(kind)
	if !ok || framed && def.Medium != site.SerialLine {
		return nil, fmt.Errorf("--line %q: write a protocol, or the end of its name, and for a serial line its "+
			"format behind a colon, such as 19200:8E1", text)
	}
	line := site.Line{ID: text, Name: text, Medium: def.Medium}
	if def.Medium == site.SerialLine {
		line.Serial = &site.Serial{Standard: serial.TIA485Two, Format: serial.Usual}
		if framed {
			f, err := serial.ParseFormat(format)
			if err != nil {
				return nil, fmt.Errorf("--line %q: %w", text, err)
			}
			line.Serial.Format = f
		}
	}
	flags.protocol = def.Name
	devices, listing, err := flags.readMap(path)
	if err != nil {
		return nil, err
	}
	if len(devices) != 1 {
		return nil, fmt.Errorf("%s is a site file: give it without --map", path)
	}
	if rejected := listing.Rejected; len(rejected) > 0 {
		return nil, fmt.Errorf("%s, line %d: %s; ferry map check shows every row that cannot come in", path,
			rejected[0].Line, rejected[0].Reason)
	}
	device := devices[0]
	port := site.Port{Line: line.ID, Protocol: def.Name}
	if think >= 0 {
		port.Settings = protocol.Numbers(map[string]int{"thinkMs": think})
	}
	device.Ports = []site.Port{port}
	taken := map[string]bool{}
	for i := range device.Points {
		// What is printed of a point is its name.
		if p := &device.Points[i]; !taken[p.Name] {
			p.ID = p.Name
			taken[p.Name] = true
		}
	}
	asking := site.Device{ID: "asking", Name: "asking end", Ports: []site.Port{{Line: line.ID}}}
	return &site.Site{Name: device.Name, Lines: []site.Line{line}, Devices: []site.Device{asking, device},
			Links: []site.Link{{ID: "link", Asking: asking.ID, Answering: device.ID, Line: line.ID,
				Protocol: def.Name}}},
		nil
}

func printPlan(c *cobra.Command, s *site.Site, plan *timetable.Plan) {
	out := c.OutOrStdout()
	for _, load := range plan.Lines {
		if load.Requests == 0 {
			continue
		}
		holds := "every pace holds"
		if !load.Holds {
			holds = "not every pace holds"
		}
		fmt.Fprintf(out, "%s: %.1f %% used, %s; %d requests for %d points (one each would be %d)\n",
			s.Line(load.Line).Name, 100*load.Utilisation, holds, load.Requests, load.Points, load.Alone)
		for i := range plan.Requests {
			q := &plan.Requests[i]
			if q.Line != load.Line {
				continue
			}
			fmt.Fprintf(out, "  %-24s %-28s %-6s %8.2f ms wire %8.2f ms device", s.Device(q.Device).Name, q.Operation,
				regmap.PrintPace(q.PaceMs), q.WireMs, q.DeviceMs)
			if q.PaceMs > 0 {
				fmt.Fprintf(out, " %9.1f ms slack", q.SlackMs)
			}
			fmt.Fprintln(out)
		}
	}
	for _, f := range plan.Findings {
		fmt.Fprintf(out, "%s: %s\n%s %s\n", f.Severity, f.Subject.Name, f.Sentence, f.Remedy)
	}
}
