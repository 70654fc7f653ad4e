package iec61850

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"time"

	"ferry/internal/bench"
	wire "ferry/internal/wire/iec61850"
	"ferry/internal/wire/isotcp"
)

// Caller names who asks a server.
func (speech) Caller() string { return "substation controller" }

// How a caller asks.
const (
	answerWithin = 5 * time.Second
	roundEvery   = time.Second
	readAtOnce   = 60
)

// Call plays a substation controller.
func (speech) Call(ctx context.Context, over net.Conn, screen *bench.Screen) error {
	c := &caller{conn: over, screen: screen, objects: map[string]*object{}, sets: map[string][]wire.Name{}}
	if err := c.begin(); err != nil {
		return err
	}
	if err := c.model(); err != nil {
		return err
	}
	if err := c.enable(); err != nil {
		return err
	}
	tick := time.NewTicker(roundEvery)
	defer tick.Stop()
	for {
		if err := c.round(); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case o := <-screen.Orders:
			err := c.operate(o.Name, o.On)
			var refused refusal
			o.Done(err)
			if err != nil && !errors.As(err, &refused) {
				return err
			}
		case <-tick.C:
		}
	}
}

// caller is a conversation of a client, which asks one question at a time.
type caller struct {
	conn    net.Conn
	screen  *bench.Screen
	held    []byte // of the next message
	message []byte
	invoke  uint32
	objects map[string]*object     // by the domain and the item of their data
	sets    map[string][]wire.Name // of reports, by the names of data sets
	order   []*object
	reports []wire.Name // control blocks
	domains map[string]map[string]bool
}

// object is data that has a value, a quality and a time.
type object struct {
	domain, item string // "LD0", "GGIO1$MX$AnIn1"
	value        string // the attribute in it: "mag$f"
}

// refusal is an answer that says no.
type refusal string

func (r refusal) Error() string { return string(r) }

// begin opens the transport and the association.
func (c *caller) begin() error {
	if _, err := c.conn.Write(isotcp.AppendConnect(nil, 1, 1, isotcp.Size8192)); err != nil {
		return err
	}
	t, err := c.frame()
	if err != nil {
		return err
	}
	if t.Kind != isotcp.ConnectConfirm {
		return errors.New("the transport is refused")
	}
	if _, err := c.conn.Write(isotcp.AppendData(nil, wire.Associate(wire.DefaultInitiation(), wire.Selectors{}),
		isotcp.Size8192)); err != nil {
		return err
	}
	h, err := c.hear()
	switch {
	case err != nil:
		return err
	case !h.Accepts || h.Why != "":
		return fmt.Errorf("the association is refused: %s", h.Why)
	}
	return nil
}

func (c *caller) frame() (isotcp.TPDU, error) {
	buf := make([]byte, 4096)
	for {
		n, err := isotcp.Frame(c.held, 1<<16)
		if err != nil {
			return isotcp.TPDU{}, err
		}
		if n > 0 {
			t, err := isotcp.ParseTPDU(c.held[:n])
			t.Rest = slices.Clone(t.Rest)
			c.held = append(c.held[:0], c.held[n:]...)
			return t, err
		}
		if err := c.conn.SetReadDeadline(time.Now().Add(answerWithin)); err != nil {
			return isotcp.TPDU{}, err
		}
		got, err := c.conn.Read(buf)
		if err != nil {
			return isotcp.TPDU{}, err
		}
		c.held = append(c.held, buf[:got]...)
	}
}

// hear reads a whole message.
func (c *caller) hear() (wire.Heard, error) {
	for {
		t, err := c.frame()
		if err != nil {
			return wire.Heard{}, err
		}
		if t.Kind != isotcp.Data {
			return wire.Heard{}, errors.New("the transport was ended")
		}
		c.message = append(c.message, t.Rest...)
		if t.Last {
			h, err := wire.Hear(slices.Clone(c.message))
			c.message = c.message[:0]
			return h, err
		}
	}
}

// ask asks a question, and takes the reports that come before its answer.
func (c *caller) ask(s wire.Service, body []byte) ([]byte, error) {
	c.invoke++
	if err := c.conn.SetWriteDeadline(time.Now().Add(answerWithin)); err != nil {
		return nil, err
	}
	question := isotcp.AppendData(nil, wire.Speak(wire.Question(c.invoke, s, body)), isotcp.Size8192)
	if _, err := c.conn.Write(question); err != nil {
		return nil, err
	}
	for {
		h, err := c.hear()
		if err != nil {
			return nil, err
		}
		if h.Ends {
			return nil, errors.New("the conversation was ended")
		}
		m, err := wire.ParseMessage(h.MMS)
		if err != nil {
			return nil, err
		}
		switch {
		case m.Kind == wire.Unconfirmed:
			c.report(&m)
		case m.Invoke != c.invoke:
		case m.Kind == wire.Response:
			return m.Body, nil
		default:
			return nil, refusal(fmt.Sprintf("error of class %d, code %d", m.Class, m.Code))
		}
	}
}

func (c *caller) names(class int, domain string) (all []string, err error) {
	q := wire.NameList{Class: class, Domain: domain}
	for {
		body, err := c.ask(wire.GetNameList, q.Octets())
		if err != nil {
			return nil, err
		}
		list, more, err := wire.ReadNames(body)
		if err != nil {
			return nil, err
		}
		if all = append(all, list...); !more || len(list) == 0 {
			return all, nil
		}
		q.After = list[len(list)-1]
	}
}

func (c *caller) write(n wire.Name, d wire.Data) (refused int, err error) {
	body, err := c.ask(wire.Write, wire.WriteOf([]wire.Name{n}, []wire.Data{d}))
	if err != nil {
		return 0, err
	}
	list, err := wire.ReadWritten(body)
	if err != nil || len(list) != 1 {
		return 0, counted(err)
	}
	return list[0], nil
}

// counted is why an answer is none: what is wrong with it, or how many results it has.
func counted(err error) error {
	if err == nil {
		err = errors.New("the answer has not as many results as were asked for")
	}
	return err
}

func (c *caller) read(names []wire.Name) ([]wire.Result, error) {
	body, err := c.ask(wire.Read, wire.ReadOf(names))
	if err != nil {
		return nil, err
	}
	list, err := wire.ReadResults(body, 0)
	if err != nil || len(list) != len(names) {
		return nil, counted(err)
	}
	return list, nil
}
