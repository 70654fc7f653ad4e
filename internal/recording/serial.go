package recording

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/serial"
	"ferry/internal/files"
)

// headOctets is how much of a file is looked at to know what it is.
const headOctets = 1 << 16

// lineName is what a serial line is called whose recording is in a file.
func lineName(file string) string {
	name := path.Base(strings.ReplaceAll(file, "\\", "/"))
	if at := strings.LastIndexByte(name, '.'); at > 0 {
		name = name[:at]
	}
	return cmp.Or(name, "line")
}

// readSerial reads lines of octets in hexadecimal.
func (r *Reading) readSerial(ctx context.Context, src Source, in io.Reader, head []byte) error {
	format := serial.Usual
	if src.Serial != nil {
		format = *src.Serial
	}
	// Whether anybody says who speaks is known from the beginning.
	look := files.OpenSerialText(bytes.NewReader(head), format)
	for _, _, err := look.Next(); err == nil; _, _, err = look.Next() {
	}
	text := files.OpenSerialText(in, format)
	before := r.assembler.Packets
	packet := capture.Packet{Kind: capture.Serial, Line: lineName(src.Name), Format: src.Serial, OneWay: look.OneWay}
	var err error
	for n := 1; ; n++ {
		if n%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		var p capture.Piece
		var known bool
		if p, known, err = text.Next(); err != nil {
			break
		}
		if !known {
			p.Side = capture.Asker
		}
		packet.Number, packet.At, packet.Side, packet.Payload = p.Number+before, p.At, p.Side, p.Octets
		r.assembler.Packet(&packet)
	}
	if text.Unread > 0 {
		r.result.Unread += text.Unread
		r.result.Said = append(r.result.Said, fmt.Sprintf("%s: %d lines could not be read; %s", src.Name, text.Unread,
			text.Why))
	}
	if r.assembler.Packets == before {
		return fmt.Errorf("%s: it is text without a line of octets in hexadecimal, and no recording of packets", src.Name)
	}
	if !errors.Is(err, io.EOF) {
		r.result.Unread++
		r.result.Said = append(r.result.Said, fmt.Sprintf("%s: the rest was not read: %v", src.Name, err))
	}
	return nil
}

// readOctets reads octets as they came over a line that was set so. They have no times
// of their own: each is taken to have followed the one before at once.
func (r *Reading) readOctets(ctx context.Context, src Source, in *bufio.Reader) error {
	packet := capture.Packet{Kind: capture.Serial, Line: lineName(src.Name), Format: src.Serial, OneWay: true,
		Untimed: true}
	at := time.Unix(0, 0).UTC()
	var b [256]byte
	before := r.assembler.Packets
	for number := r.assembler.Packets + 1; ctx.Err() == nil; number++ {
		n, err := in.Read(b[:])
		if n > 0 {
			packet.Number, packet.At, packet.Payload = number, at, b[:n]
			r.assembler.Packet(&packet)
			at = at.Add(time.Duration(float64(n) * src.Serial.CharMs() * float64(time.Millisecond)))
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return fmt.Errorf("%s: %w", src.Name, err)
		}
	}
	if r.assembler.Packets == before {
		return fmt.Errorf("%s: it is empty", src.Name)
	}
	r.result.Said = append(r.result.Said, src.Name+": octets without times, so nothing that needs a time is judged")
	return ctx.Err()
}
