package field

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// WriteResult is what came of a write.
type WriteResult struct {
	Order WriteOrder `json:"order"`
	OK    bool       `json:"ok"`
	// State is what is known of it: written, not written, or not known.
	State    WriteState `json:"state"`
	Sentence string     `json:"sentence"`
	// ReadBack is what the point reads after the write.
	ReadBack string `json:"readBack"`
	AtMs     int64  `json:"atMs"`

	stored value.Value // what it reads after the write, as a value
}

// fresh is how old a value may be to be shown as the one that a write replaces.
const fresh = 2 * time.Second

// Prepare names in full what writing text to a point would do, and writes
// nothing. A value that was not read just now is read again, so that what
// stands there is seen before it is replaced; if it cannot be read, the last
// value known is named with its time.
func (e *Engine) Prepare(ctx context.Context, pointID, text string) (WriteOrder, error) {
	return e.PrepareAt(ctx, pointID, text, At{})
}

// PrepareAt is Prepare at a level; where that is given up the text does not count.
func (e *Engine) PrepareAt(ctx context.Context, pointID, text string, at At) (WriteOrder, error) {
	if at.GiveUp {
		return e.prepared(ctx, pointID, value.Value{}, at)
	}
	device, point := e.Site().Point(pointID)
	if point == nil {
		return WriteOrder{}, problem.New("gone", "The point is no longer in the site.",
			"Reload to see what changed.").At(pointID)
	}
	v, err := point.ParseValue(text)
	if err != nil {
		return WriteOrder{}, problem.New("bad-value", err.Error()+".", "").At(device.Name + " · " + point.Name)
	}
	return e.prepared(ctx, pointID, v, at)
}

// PrepareValue is Prepare with a value in engineering units.
func (e *Engine) PrepareValue(ctx context.Context, pointID string, v value.Value) (WriteOrder, error) {
	return e.prepared(ctx, pointID, v, At{})
}

func (e *Engine) prepared(ctx context.Context, pointID string, v value.Value, at At) (WriteOrder, error) {
	o, err := e.prepareAt(pointID, v, at, authority{})
	if err != nil {
		return WriteOrder{}, err
	}
	if err := e.readOld(ctx, o); err != nil {
		return WriteOrder{}, err
	}
	shown := e.show(o)
	e.mu.Lock()
	defer e.mu.Unlock()
	shown.Locked = e.door.mode == Plant && time.Now().After(e.door.unlocked)
	e.door.keep(o)
	shown.Token = o.token
	return shown, nil
}

// readOld reads what stands in a point, unless it was read just now.
func (e *Engine) readOld(ctx context.Context, o *order) error {
	live, _ := e.Hub.Point(o.point.ID)
	_, asks := o.def.Asks()
	readable := (o.rules != nil || asks) && o.point.Access != site.WriteOnly
	if !readable || time.Now().UnixMilli()-live.AtMs <= fresh.Milliseconds() {
		return nil
	}
	return e.with(ctx, o.link.ID, func(r *runner, conn Conn, _ Reply) {
		switch {
		case conn == nil:
		case o.rules == nil:
			r.readItem(conn, o)
		default:
			r.read(conn, o) // a failure shows in the write
		}
	})
}

// Write carries out the order of a token, and reads back what it wrote. The
// order is taken up once, whatever comes of it.
func (e *Engine) Write(ctx context.Context, who, token string) (WriteResult, error) {
	e.mu.Lock()
	o := e.door.orders[token]
	delete(e.door.orders, token)
	e.mu.Unlock()
	if o == nil || time.Since(o.made) > orderLife {
		return WriteResult{}, problem.New("order-gone",
			"This order was carried out already, is older than ten minutes, or was prepared before the mode changed.",
			"Prepare the write again.")
	}
	return e.journalled(ctx, who, o)
}

// journalled carries out an order with its intent in the journal before it
// goes, and its outcome after.
func (e *Engine) journalled(ctx context.Context, who string, o *order) (WriteResult, error) {
	if err := e.holds(o); err != nil {
		return WriteResult{}, err
	}
	record := &Record{Who: who, State: UnderWay, Order: e.show(o), AtMs: time.Now().UnixMilli()}
	if err := e.Journal.Intend(ctx, record); err != nil {
		return WriteResult{}, problem.New("journal",
			"Nothing was written: the journal of writes cannot be kept: "+err.Error()+".",
			"Look at the disk, then prepare the write again.")
	}
	result, err := e.send(ctx, o)
	record.State, record.Sentence, record.ReadBack, record.EndMs = result.State, result.Sentence, result.ReadBack,
		time.Now().UnixMilli()
	if failed := e.Journal.Outcome(context.WithoutCancel(ctx), record); failed != nil {
		return result, problem.New("journal",
			"The outcome could not be kept in the journal ("+failed.Error()+"). What is known: "+result.Sentence,
			"Note the write by hand, and look at the disk.")
	}
	return result, err
}

// send carries out an order, and says what is known of it. An error means that
// nothing was sent.
func (e *Engine) send(ctx context.Context, o *order) (WriteResult, error) {
	result := WriteResult{Order: e.show(o), State: NotWritten, AtMs: time.Now().UnixMilli()}
	var refused error
	left := false
	err := e.with(ctx, o.link.ID, func(r *runner, conn Conn, reply Reply) {
		if conn == nil {
			result.Sentence = "Nothing was written: " + reply.Sentence + "."
			return
		}
		pass := e.pass(o, r.channel)
		reply = r.write(conn, o, func() (func(), error) {
			var done func()
			if done, refused = pass(); refused == nil {
				left = true
			}
			return done, refused
		})
		if refused == nil {
			e.judge(ctx, r, o, reply, left, &result)
		}
	})
	if err == nil && refused != nil {
		err = refused
	}
	switch {
	case err == nil:
	case left: // what came ended in a defect
		result.State, result.Sentence = NotKnown,
			"It is not known whether "+o.device.Name+" took it: "+problem.From(err, "write").Sentence
		err = nil
	default:
		result.Sentence = "Nothing was written: " + problem.From(err, "write").Sentence
	}
	return result, err
}

// judge says what came of a write from the reply to it, and from reading back.
func (e *Engine) judge(ctx context.Context, r *runner, o *order, reply Reply, passed bool, result *WriteResult) {
	unsure := false
	switch {
	case reply.Outcome == exchange.Sent:
		result.OK, result.State = true, NotKnown
		result.Sentence = fmt.Sprintf("Sent to every %s of the line. None answers to that, so nothing is proved by it.",
			o.def.StationWord())
		return
	case !passed || !reply.OK() && reply.Outcome != exchange.Declined && !reply.Left:
		result.Sentence = "Nothing was written: " + reply.Sentence + "."
		return
	case reply.Outcome == exchange.Declined && !o.def.Decline(reply.Code).Unsure:
		result.Sentence = fmt.Sprintf("%s did not take it: %s.", o.device.Name, reply.Sentence)
		return
	case !reply.OK():
		unsure = true
		result.State, result.Sentence = NotKnown,
			fmt.Sprintf("It is not known whether %s took it: %s.", o.device.Name, reply.Sentence)
	default:
		result.State = Done
	}
	if _, asks := o.def.Asks(); o.rules == nil && !asks { // it is not asked for what stands there: it is told of it
		if result.State == Done {
			result.OK, result.Sentence = true, cmp.Or(reply.Sentence,
				"Taken by "+o.device.Name+"; what it reads is shown once it is reported.")
		}
		return
	}
	if o.def.Commands(o.point.Address) {
		if result.State == Done {
			result.OK, result.Sentence = true, "The command was taken by "+o.device.Name+"."
		}
		return
	}
	said := reply.Sentence
	if o.point.Access == site.WriteOnly {
		if !unsure {
			result.OK, result.Sentence = true, "Written; the point cannot be read back."
		}
		return
	}
	if ctx.Err() != nil || !r.channel.open(r.channel.life, r) {
		if !unsure {
			result.Sentence = "It was written, but reading it back failed: the connection has ended."
		}
		return
	}
	back, reply := r.readBack(r.conn(), o)
	switch {
	case !reply.OK() && unsure:
		result.Sentence += " Reading it back failed: " + reply.Sentence + "."
	case !reply.OK():
		result.Sentence = "It was written, but reading it back failed: " + reply.Sentence + "."
	default:
		result.stored = o.scale.Apply(back)
		result.ReadBack = o.point.Shown(result.stored)
		reads := strings.TrimSpace(result.ReadBack + " " + o.point.Unit)
		switch same := back == o.rounded() && reply.Doubt == ""; {
		case o.gives && !unsure:
			result.OK, result.State, result.Sentence = true, Done, fmt.Sprintf("Given up. It reads %s now.", reads)
		case same && unsure:
			result.OK, result.State = true, Done
			result.Sentence = fmt.Sprintf("It reads back as written, although the answer to the write was none: %s.",
				said)
		case same:
			result.OK, result.Sentence = true, "Written and read back."
		case unsure:
			result.Sentence += fmt.Sprintf(" It reads %s now, and may still change.", reads)
		default:
			result.Sentence = fmt.Sprintf("%s took the write, but reads %s.", o.device.Name, reads)
			if len(o.def.Levels(o.point.Address)) > 0 {
				result.Sentence += " A stronger level may command it: look who does."
			}
		}
	}
}

// write sends the value; where it shares a word with others, it reads the word
// first and leaves the others alone. What cannot be read for certain is not
// written over.
func (r *runner) write(conn Conn, o *order, pass Pass) Reply {
	if o.rules == nil {
		return r.writeItem(conn, o, pass)
	}
	data, at := append([]byte(nil), o.data...), block.WithBit(o.point.Address, -1)
	if o.bitAlone() {
		data, at = []byte{0}, o.point.Address
		if o.raw.Bool() {
			data[0] = 1
		}
	} else if o.codec.Partial() {
		reply := r.read(conn, o)
		switch {
		case !reply.OK():
			return Reply{Outcome: exchange.NotAllowed,
				Sentence: "the word that it shares with others could not be read first: " + reply.Sentence}
		case reply.Doubt != "":
			return Reply{Outcome: exchange.NotAllowed,
				Sentence: "the word that it shares with others was not read for certain: " + reply.Doubt}
		case len(reply.Data) != len(data):
			return Reply{Outcome: exchange.NotAllowed,
				Sentence: fmt.Sprintf("the word that it shares with others came as %d octets in place of %d",
					len(reply.Data), len(data))}
		}
		copy(data, reply.Data)
		if err := o.codec.Encode(o.raw, data); err != nil {
			return Reply{Outcome: exchange.NotAllowed, Sentence: err.Error()}
		}
	}
	began := time.Now()
	reply := Reply{Outcome: exchange.NotAllowed, Sentence: "its protocol writes no such thing"}
	if c, ok := conn.(Ranged); ok {
		reply = c.Write(at, data, pass)
	}
	r.wrote(o, &reply, began, o.ranges())
	return reply
}

// writeItem sends the value by the name of its place.
func (r *runner) writeItem(conn Conn, o *order, pass Pass) Reply {
	began := time.Now()
	reply := Reply{Outcome: exchange.NotAllowed, Sentence: "its protocol writes no such thing"}
	if c, ok := conn.(NoteWriter); ok && o.note != nil {
		reply = c.WriteNoted(o.point.Wanted(), o.raw, o.note, pass)
	} else if c, ok := conn.(ItemWriter); ok {
		to := o.point.Wanted()
		if !o.level.IsZero() {
			to.Address = o.level
		}
		reply = c.WriteItem(to, o.raw, pass)
	}
	r.wrote(o, &reply, began, nil)
	return reply
}

func (r *runner) wrote(o *order, reply *Reply, began time.Time, ranges []block.Range) {
	e := r.exchange(fmt.Sprintf("write %s @ %s", o.point.Name, r.def.Scheme.Short(o.point.Address)), reply, began,
		time.Since(began))
	e.Write, e.Points, e.Ranges = true, 1, ranges
	r.hub.record(r.era, e, nil)
}

func (r *runner) read(conn Conn, o *order) Reply {
	ranges := o.ranges()
	began := time.Now()
	reply := Ask(conn, ranges)
	e := r.exchange(r.rules.Operation(ranges), &reply, began, time.Since(began))
	e.Points, e.Ranges = 1, ranges
	var parts []part
	if track := r.hub.reading(o.point); reply.OK() && track != nil {
		parts = []part{{track: track, codec: &o.codec}}
	}
	r.hub.record(r.era, e, parts)
	return reply
}

func (r *runner) readBack(conn Conn, o *order) (value.Value, Reply) {
	if o.rules == nil {
		return r.readItem(conn, o)
	}
	reply := r.read(conn, o)
	if !reply.OK() {
		return value.Value{}, reply
	}
	v, err := o.codec.Decode(reply.Data, value.Value{})
	if err != nil {
		return value.Value{}, Reply{Outcome: exchange.Garbled, Sentence: err.Error()}
	}
	return v, reply
}

// WriteTarget prepares a write to the one point of a device that belongs to no
// site, and, if really, carries it out by the journal. What the point cannot
// hold exactly is refused: nobody confirms it here.
func WriteTarget(ctx context.Context, journal Journal, who string, link *site.Link, device *site.Device, target Target,
	v value.Value, really bool) (WriteResult, error) {
	own := *link
	own.Asking = device.ID // so that its port, which has the line's format, is found
	e := NewEngine(lone(&own, device, target), fixed(target.Dial))
	e.Journal = journal
	defer e.Close()
	o, err := e.prepare(device.Points[0].ID, v, authority{certain: true})
	if err != nil {
		return WriteResult{}, err
	}
	if err := e.readOld(ctx, o); err != nil {
		return WriteResult{}, err
	}
	shown := e.show(o)
	if shown.Lost != "" {
		return WriteResult{}, errors.New(shown.Lost + ": write that value, if it is meant")
	}
	if !really {
		return WriteResult{Order: shown, State: NotWritten, Sentence: "Nothing was written."}, nil
	}
	return e.journalled(ctx, who, o)
}
