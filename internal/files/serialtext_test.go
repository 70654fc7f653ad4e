package files

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"ferry/internal/core/capture"
	"ferry/internal/core/serial"
)

// TestSerialText: recordings of serial lines are read in the ways in which they are
// usually written, with their times and who speaks.
func TestSerialText(t *testing.T) {
	for _, c := range []struct{ line, want string }{
		{"2026-03-02 06:00:00.123456 > 0D 03 00 00", "06:00:00.123456 asks 0D 03 00 00"},
		{"2026-03-02T06:00:00.5Z rx: 0D83 02", "06:00:00.500000 answers 0D 83 02"},
		{"[06:00:00.127] TX: 0d030000000c45c3", "06:00:00.127000 asks 0D 03 00 00 00 0C 45 C3"},
		{"06:00:00,127 RX 0x0D 0x83 0x02", "06:00:00.127000 answers 0D 83 02"},
		{"0.004123 tx 0D-03-00", "00:00:00.004123 asks 0D 03 00"},
		{"+1.5s < 0D 83", "00:00:01.500000 answers 0D 83"},
		{"1234 rx 0D 83", "00:00:01.234000 answers 0D 83"},
		{"0D 03 00 00 00 0C 45 C3", "00:00:00.000000 one 0D 03 00 00 00 0C 45 C3"},
		{"00000010: 0d 03 00 00  |....|", "00:00:00.000000 one 0D 03 00 00"},
		{`06:00:01.000 master "0D 03" read holding`, "06:00:01.000000 asks 0D 03"},
		{`06:00:01.000 -> \x0d\x03`, "06:00:01.000000 asks 0D 03"},
		{"06:00:01.000, tx, 0x0D,0x03,0x00", "06:00:01.000000 asks 0D 03 00"},
		{"02.03.2026 06:00:01.000 out 0D 03", "06:00:01.000000 asks 0D 03"},
		{"the line is quiet", "unread"},
		{"# 19200:8E1", ""},
		{"", ""},
	} {
		t.Run(c.line, func(t *testing.T) {
			s := OpenSerialText(strings.NewReader(c.line+"\n"), serial.Usual)
			got := ""
			p, known, err := s.Next()
			switch {
			case err == nil:
				who := "one"
				if known {
					who = map[capture.Side]string{capture.Asker: "asks", capture.Answerer: "answers"}[p.Side]
				}
				got = fmt.Sprintf("%s %s % X", p.At.Format("15:04:05.000000"), who, p.Octets)
			case !errors.Is(err, io.EOF):
				t.Fatal(err)
			case s.Unread > 0:
				got = "unread"
			}
			if got != c.want {
				t.Errorf("it is read as %q, want %q", got, c.want)
			}
		})
	}
	// What has no time of its own follows what came before, and midnight passes.
	s := OpenSerialText(strings.NewReader("2026-03-02 23:59:59.9 > 0D 03\n00:00:00.1 < 0D 83\n0D 84\n"), serial.Usual)
	var days []string
	for p, _, err := s.Next(); err == nil; p, _, err = s.Next() {
		days = append(days, p.At.Format("02 15:04:05.0"))
	}
	if strings.Join(days, ", ") != "02 23:59:59.9, 03 00:00:00.1, 03 00:00:00.1" || s.OneWay {
		t.Errorf("%v", days)
	}
	long := OpenSerialText(strings.NewReader(strings.Repeat("0D ", longestLine)), serial.Usual)
	if _, _, err := long.Next(); err == nil || !strings.Contains(err.Error(), "longer than") {
		t.Errorf("a line without end: %v", err)
	}
}
