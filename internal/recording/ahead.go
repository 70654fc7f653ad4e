package recording

import (
	"context"

	"ferry/internal/core/capture"
	"ferry/internal/files"
)

// batch is some packets that were read ahead, with their payloads.
type batch struct {
	packets []capture.Packet
	octets  []byte
	err     error // after the last of them
	spare   chan *batch
}

// Sizes of what is read ahead.
const (
	batches      = 4
	batchPackets = 1024
	batchOctets  = 1 << 18
)

// ahead reads packets while those before are put together. Each batch goes back to its
// spare channel when it is done with; the last has an error, io.EOF at the end.
func ahead(ctx context.Context, c *files.Capture) <-chan *batch {
	full, spare := make(chan *batch, batches), make(chan *batch, batches)
	for range batches {
		spare <- &batch{spare: spare}
	}
	go func() {
		defer close(full)
		for {
			var b *batch
			select {
			case b = <-spare:
			case <-ctx.Done():
				return
			}
			b.fill(c)
			select {
			case full <- b:
			case <-ctx.Done():
				return
			}
			if b.err != nil {
				return
			}
		}
	}()
	return full
}

// fill reads packets until the batch is full, or there are no more.
func (b *batch) fill(c *files.Capture) {
	b.packets, b.octets, b.err = b.packets[:0], b.octets[:0], nil
	for len(b.packets) < batchPackets && len(b.octets) < batchOctets {
		b.packets = append(b.packets, capture.Packet{})
		p := &b.packets[len(b.packets)-1]
		if b.err = c.Next(p); b.err != nil {
			b.packets = b.packets[:len(b.packets)-1]
			return
		}
		// What is appended may move: payloads before keep to where they were.
		from := len(b.octets)
		b.octets = append(b.octets, p.Payload...)
		p.Payload = b.octets[from:len(b.octets):len(b.octets)]
		from = len(b.octets)
		b.octets = append(b.octets, p.Head...)
		p.Head = b.octets[from:len(b.octets):len(b.octets)]
	}
}
