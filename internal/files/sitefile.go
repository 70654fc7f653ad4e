// Package files reads and writes open file formats.
package files

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"ferry/internal/core/problem"
	"ferry/internal/core/site"
)

// WriteSite writes a site in its canonical form: the fields in the order of
// the types, two blanks of indent, one newline at the end. Two versions of a
// site differ only in the lines that changed.
func WriteSite(w io.Writer, s *site.Site) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	if err := e.Encode(s); err != nil {
		return err
	}
	_, err := b.WriteTo(w)
	return err
}

// ReadSite reads a site file. It is taken whole or refused whole: the error is
// a *problem.Problem with the place.
func ReadSite(data []byte) (*site.Site, error) {
	data = bytes.TrimPrefix(data, []byte("\xEF\xBB\xBF"))
	var head struct {
		Format  string `json:"format"`
		Version int    `json:"version"`
	}
	if err := json.Unmarshal(data, &head); err != nil {
		return nil, placed(data, err)
	}
	if head.Format != site.Format {
		return nil, problem.New("not-a-site",
			fmt.Sprintf("This is no site file: its format is %q, not %q.", head.Format, site.Format),
			"Choose a file that Ferry has handed out.").At("format")
	}
	if head.Version > site.Version || head.Version < 1 {
		return nil, problem.New("newer-version",
			fmt.Sprintf("The file has version %d of the format, and this Ferry reads up to %d.", head.Version,
				site.Version), "Open it with a newer Ferry.").At("version")
	}
	var s site.Site
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(&s); err != nil {
		if path, cause := blame(data); path != "" {
			sentence := strings.TrimPrefix(cause.Error(), "json: ") + "."
			if name, ok := strings.CutPrefix(cause.Error(), "json: unknown field "); ok {
				sentence = fmt.Sprintf("The format has no field %s there.", name)
			}
			return nil, problem.New("unreadable", sentence,
				"Correct the file, or hand it out again.").At(fmt.Sprintf("%s, line %d", path, lineOf(data, path)))
		}
		return nil, placed(data, err)
	}
	for i := range s.Devices {
		if s.Devices[i].Points == nil {
			s.Devices[i].Points = []site.Point{}
		}
	}
	if err := s.Validate(); err != nil {
		p := problem.From(err, "invalid")
		if line := lineOf(data, p.Path); line > 0 {
			p = p.At(fmt.Sprintf("%s, line %d (%s)", p.Path, line, p.Where))
		}
		return nil, p
	}
	return &s, nil
}

// placed adds line and column to an error of the JSON decoder.
func placed(data []byte, err error) error {
	offset := int64(len(data))
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	where, sentence, do := "", err.Error()+".", "Correct the file, or hand it out again."
	switch {
	case errors.As(err, &syntax):
		offset = syntax.Offset
	case errors.As(err, &kind):
		offset, where = kind.Offset, kind.Field+", "
	case !errors.Is(err, io.ErrUnexpectedEOF):
		return problem.New("unreadable", sentence, do)
	}
	if offset >= int64(len(data)) {
		sentence, do = "The file ends in the middle.", "It was cut short: copy it again."
	}
	before := data[:min(offset, int64(len(data)))]
	line := 1 + bytes.Count(before, []byte("\n"))
	column := len(before) - bytes.LastIndexByte(before, '\n')
	return problem.New("unreadable", sentence, do).At(fmt.Sprintf("%sline %d, column %d", where, line, column))
}
