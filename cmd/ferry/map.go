package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/files"
)

// mapFlags say how a list of points is meant where it does not say it itself.
type mapFlags struct {
	begin    string
	sheet    string
	header   int
	area     string
	fromOne  bool
	fromZero bool
	hex      bool
	divide   bool
	multiply bool
	power    bool
	little   string
	digits   string
	decimals string
	protocol string
	names    []string
}

func (f *mapFlags) on(c *cobra.Command) {
	c.Flags().StringVar(&f.begin, "begin", "",
		"address from which declared variables lie that have none, as the protocol writes it")
	c.Flags().StringVar(&f.sheet, "sheet", "", "sheet of a workbook")
	c.Flags().IntVar(&f.header, "header-row", 0, "row of the headings; found by itself if 0, none if negative")
	c.Flags().StringVar(&f.area, "table", "", "key of the area in which bare numbers count")
	c.Flags().BoolVar(&f.fromOne, "from-one", false, "bare numbers count from 1")
	c.Flags().BoolVar(&f.fromZero, "from-zero", false, "bare numbers count from 0")
	c.MarkFlagsMutuallyExclusive("from-one", "from-zero")
	c.Flags().BoolVar(&f.hex, "hex", false, "bare numbers are hexadecimal")
	c.Flags().BoolVar(&f.divide, "divide", false, "a scale of 10 divides what is read")
	c.Flags().BoolVar(&f.multiply, "multiply", false, "a scale of 10 multiplies what is read")
	c.Flags().BoolVar(&f.power, "power", false, "scales are powers of ten")
	c.MarkFlagsMutuallyExclusive("divide", "multiply", "power")
	c.Flags().StringVar(&f.little, "little", "", "what little endian means: CDAB or DCBA")
	c.Flags().StringVar(&f.digits, "digits", "",
		"whether the first of five digits names a table: table, or plain for none")
	c.Flags().StringVar(&f.decimals, "decimals", "", "whether decimals divide what is read: scale, or shown for not")
	c.Flags().StringVar(&f.protocol, "protocol", protocol.MapOr(""), "protocol whose addressing the list uses")
	c.Flags().StringSliceVar(&f.names, "names-for", nil,
		"far sides that must hold the names: "+strings.Join(nameRules(), ", "))
}

// nameRules are the keys of the rules that names can be held to.
func nameRules() (keys []string) {
	for _, r := range regmap.NameRules() {
		keys = append(keys, r.Key)
	}
	return keys
}

// reading is how the flags say that a list is meant.
func (f *mapFlags) reading() regmap.Reading {
	r := regmap.Reading{Area: f.area, FromOne: f.fromOne, HeaderRow: f.header, Hex: f.hex, Divide: f.divide,
		PowerScale: f.power, Little: f.little, Plain: f.digits == "plain", PointLeftOut: f.decimals == "scale"}
	for key, said := range map[string]bool{"base": f.fromOne || f.fromZero, "table": f.area != "", "hex": f.hex,
		"scale": f.divide || f.multiply || f.power, "order": f.little != "", "digits": f.digits != "",
		"decimals": f.decimals != ""} {
		if said {
			r.Settled = append(r.Settled, key)
		}
	}
	return r
}

// readMap reads a list of points, or the maps of a site file. The listing is
// that of a list, with how it was read.
func (f *mapFlags) readMap(path string) ([]site.Device, *regmap.Listing, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, nil, err
	}
	var head struct {
		Format string `json:"format"`
	}
	if json.Unmarshal(data, &head) == nil && head.Format == site.Format {
		s, err := files.ReadSite(data)
		if err != nil {
			return nil, nil, err
		}
		return s.Devices, &regmap.Listing{}, nil
	}
	def, ok := protocol.Named(f.protocol)
	if !ok {
		return nil, nil, fmt.Errorf("protocol %q is not known", f.protocol)
	}
	describes, _ := def.Describes()
	source, err := files.ReadSource(data, files.Within{Sheet: f.sheet, Begin: f.begin, Describes: describes}, def.Scheme)
	if err != nil {
		return nil, nil, err
	}
	listing := regmap.Recognise(def.Scheme, source.Rows, f.reading(), nil)
	points, lines, rejected := listing.Points(def.Scheme)
	if listing.InBlock {
		listing.Displaced = regmap.CompareOffsets(points, lines)
	}
	listing.Rejected = append(source.Faults, rejected...)
	for i := range points {
		points[i].ID = fmt.Sprintf("p%d", i+1)
	}
	name := strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
	return []site.Device{{ID: "device", Name: name, Map: def.Name, NamesFor: f.names, Points: points}}, &listing, nil
}

func mapCommand() *cobra.Command {
	c := &cobra.Command{Use: "map", Short: "Check and convert lists of points"}
	c.AddCommand(mapCheckCommand(), mapConvertCommand())
	return c
}

func mapCheckCommand() *cobra.Command {
	c := &cobra.Command{Use: "check FILE",
		Short: "Check a list of points: CSV, XLSX, JSON, IEC 61131-10 XML or a site file", Args: cobra.ExactArgs(1)}
	asJSON := c.Flags().Bool("json", false, "print one JSON object")
	var flags mapFlags
	flags.on(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		devices, listing, err := flags.readMap(args[0])
		if err != nil {
			return err
		}
		count, found := 0, []finding.Finding{}
		for i := range devices {
			d := &devices[i]
			if len(d.Points) == 0 {
				continue
			}
			count += len(d.Points)
			found = append(found, regmap.CheckMaps(d)...)
		}
		found = append(found, listing.Open()...)
		if len(devices) == 1 {
			found = append(found, regmap.DisplacedFindings(listing.Displaced, &devices[0])...)
		}
		finding.Sort(found)
		if *asJSON {
			err = printJSON(c.OutOrStdout(),
				map[string]any{"points": count, "rejected": append([]regmap.Rejected{}, listing.Rejected...),
					"findings": found,
					"read":     append([]string{}, listing.Notes...),
					"asides":   append([]regmap.Aside{}, listing.Asides...)})
		} else {
			printCheck(c.OutOrStdout(), count, listing, found)
		}
		if err != nil {
			return err
		}
		if len(listing.Rejected) > 0 {
			return errFound
		}
		return verdict(found)
	}
	return c
}

func printCheck(out io.Writer, count int, listing *regmap.Listing, found []finding.Finding) {
	for _, note := range listing.Notes {
		fmt.Fprintf(out, "read  %s\n", printable(note))
	}
	for _, a := range listing.Asides {
		fmt.Fprintf(out, "line %d is %s: %s\n", a.Line, a.What, printable(a.Text))
	}
	for _, r := range listing.Rejected {
		fmt.Fprintf(out, "line %d, %s: %s\n", r.Line, printable(r.Column), printable(r.Reason))
	}
	printFindings(out, found)
	fmt.Fprintf(out, "%d points, %d cells that cannot be used, %d findings\n", count, len(listing.Rejected), len(found))
}

func mapConvertCommand() *cobra.Command {
	c := &cobra.Command{Use: "convert FILE", Short: "Convert a list of points", Args: cobra.ExactArgs(1)}
	to := c.Flags().String("to", "", "csv, xlsx, json, xml, html or pdf")
	path := c.Flags().StringP("out", "o", "", "file to write; standard output if empty")
	printed := c.Flags().String("printed", "", "date that stands on a printed sheet")
	var flags mapFlags
	flags.on(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		devices, listing, err := flags.readMap(args[0])
		if err != nil {
			return err
		}
		var maps []files.Map
		for i := range devices {
			if len(devices[i].Points) == 0 {
				continue
			}
			own, err := files.MapsOf(&devices[i])
			if err != nil {
				return err
			}
			maps = append(maps, own...)
		}
		if len(maps) == 0 {
			printCheck(c.ErrOrStderr(), 0, listing, listing.Open())
			return errors.New("there is no point to convert")
		}
		if len(maps) > 1 && (*to == "csv" || *to == "json") {
			return fmt.Errorf("the file holds %d maps: convert it to xlsx, xml, html or pdf", len(maps))
		}
		out := c.OutOrStdout()
		if *path != "" {
			file, err := os.Create(*path)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, file.Close()) }()
			out = file
		}
		sheet := &files.MapSheet{Site: maps[0].Device, Printed: *printed, Maps: maps}
		switch *to {
		case "csv":
			err = files.WriteMap(out, &maps[0])
		case "xlsx":
			err = files.WriteWorkbook(out, maps)
		case "json":
			err = files.WriteMapJSON(out, &maps[0])
		case "xml":
			err = files.WriteIEC(out, sheet.Site, time.Now().Format("2006-01-02T15:04:05"), nil, maps)
		case "html":
			err = files.WriteMapSheet(out, sheet)
		case "pdf":
			err = files.WriteMapPDF(out, sheet)
		default:
			return fmt.Errorf("--to %q: give csv, xlsx, json, xml, html or pdf", *to)
		}
		if err != nil {
			return err
		}
		open := listing.Open()
		if len(listing.Rejected)+len(open) > 0 {
			printCheck(c.ErrOrStderr(), len(maps[0].Points), listing, open)
			return errFound
		}
		return nil
	}
	return c
}
