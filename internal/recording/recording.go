// Package recording reads recordings of traffic from files and has them judged.
package recording

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"

	"ferry/internal/core/capture"
	"ferry/internal/core/finding"
	"ferry/internal/core/judge"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/files"
)

// Result is what came of a recording.
type Result struct {
	Packets     int64 `json:"packets"`
	Connections int   `json:"connections"`
	Exchanges   int64 `json:"exchanges"`
	// Unread counts packets of which nothing could be made; Said says why, and what
	// else the recording could not be used for.
	Unread   int64             `json:"unread"`
	Said     []string          `json:"said"`
	Findings []finding.Finding `json:"findings"`
}

// Source is one file of a recording.
type Source struct {
	Name string
	From io.Reader
	// Serial is how the serial line was set that the file is a recording of; nil where
	// it is none, or where that is not known.
	Serial *serial.Format
}

// Reading reads a recording, which may be parted into several files: they are read in
// their order, as if they were one.
type Reading struct {
	judge     *judge.Judge
	assembler *capture.Assembler
	result    Result
}

// New begins a reading, to be judged against a site, which may be nil. Listeners are
// told beside the judge.
func New(s *site.Site, listeners ...capture.Listener) *Reading {
	r := &Reading{judge: judge.New(s)}
	r.assembler = capture.NewAssembler(append(tee{r.judge}, listeners...))
	return r
}

// tee tells several listeners.
type tee []capture.Listener

func (t tee) Packet(p *capture.Packet) {
	for _, l := range t {
		l.Packet(p)
	}
}

func (t tee) Opened(c *capture.Conn) {
	for _, l := range t {
		l.Opened(c)
	}
}

func (t tee) Heard(c *capture.Conn, h *capture.Heard) {
	for _, l := range t {
		l.Heard(c, h)
	}
}

func (t tee) Done(c *capture.Conn) {
	for _, l := range t {
		l.Done(c)
	}
}

// Read reads one file. An error says that nothing of it could be read; where it breaks
// off, what was read counts, and the result says so.
func (r *Reading) Read(ctx context.Context, src Source) error {
	in := bufio.NewReaderSize(src.From, headOctets)
	head, _ := in.Peek(headOctets)
	if packed := []byte{0x1F, 0x8B}; bytes.HasPrefix(head, packed) {
		// Packets are unpacked where they are read, which is told of what is broken off. What
		// unpacks to text or octets of a line is unpacked here.
		if unpacked, err := gzip.NewReader(bytes.NewReader(head)); err == nil {
			first := make([]byte, 4096)
			n, _ := io.ReadFull(unpacked, first)
			first = first[:n]
			if files.LooksSerial(first) || src.Serial != nil && !files.LooksPackets(first) && !bytes.HasPrefix(first, packed) {
				whole, err := gzip.NewReader(in)
				if err != nil {
					return fmt.Errorf("%s: %w", src.Name, err)
				}
				src.From = whole
				return r.Read(ctx, src)
			}
		}
	}
	switch {
	case files.LooksSerial(head):
		return r.readSerial(ctx, src, in, head)
	case src.Serial != nil && !files.LooksPackets(head):
		return r.readOctets(ctx, src, in)
	}
	c, err := files.OpenCapture(in)
	if err != nil {
		return fmt.Errorf("%s: %w", src.Name, err)
	}
	before := r.assembler.Packets
	var sums files.Sums
	spoilt := 0
	for b := range ahead(ctx, c) {
		for i := range b.packets {
			p := &b.packets[i]
			if sums.Spoilt(p) {
				*p = capture.Packet{Number: p.Number, At: p.At, Whole: p.Whole}
				spoilt++
			}
			p.Number += before
			r.assembler.Packet(p)
		}
		err = b.err
		b.spare <- b
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	r.result.Unread += c.Unread + int64(spoilt)
	if spoilt > 0 {
		r.result.Said = append(r.result.Said, fmt.Sprintf("%s: %d packets: TCP segments that fail their checksum, where "+
			"others of their host pass", src.Name, spoilt))
	}
	for _, why := range c.Reasons() {
		r.result.Said = append(r.result.Said, src.Name+": "+why)
	}
	if errors.Is(err, io.EOF) {
		return nil
	}
	if r.assembler.Packets == before {
		return fmt.Errorf("%s: %w", src.Name, err)
	}
	r.result.Unread++
	r.result.Said = append(r.result.Said, fmt.Sprintf("%s: %v", src.Name, err))
	return nil
}

// Now is what came of it so far.
func (r *Reading) Now() Result {
	res := r.result
	res.Packets, res.Connections, res.Exchanges = r.assembler.Packets, r.assembler.Conns, r.assembler.Exchanges
	res.Said = append([]string{}, res.Said...)
	if n := r.assembler.Crowded; n > 0 {
		res.Said = append(res.Said, fmt.Sprintf("Too many connections were open at once: %d were given up early.", n))
	}
	if n := r.assembler.Backwards; n > 0 {
		res.Said = append(res.Said, fmt.Sprintf("The clock of the recorder ran backwards %d times: times around there "+
			"are not sure.", n))
	}
	res.Said = append(res.Said, r.judge.Said()...)
	res.Findings = r.judge.Findings()
	return res
}

// Finish ends the reading.
func (r *Reading) Finish() Result {
	r.assembler.Finish()
	return r.Now()
}
