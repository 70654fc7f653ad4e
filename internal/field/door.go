package field

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"ferry/internal/core/problem"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// Mode says whether Ferry talks to the simulated devices or to real ones.
type Mode string

// The modes.
const (
	Bench Mode = "bench"
	Plant Mode = "plant"
)

// door is what every write to a device passes: it knows the mode, whether a
// plant may be written, and which orders are outstanding. Its fields are
// guarded by the lock of the engine.
type door struct {
	// shut is held to read while the octets of a write leave, and to write by
	// whoever changes mode, lock, releases or site: once that is done, nothing
	// leaves that was let go before. It is taken before the engine's lock.
	shut sync.RWMutex

	mode     Mode
	unlocked time.Time // until when a plant may be written by hand
	// unlocking counts the times that the plant was unlocked: an order holds for
	// one of them.
	unlocking uint64
	releases  map[string]*release // of crossings, by id
	// standing says who has released all crossings, as they are and will be, for as
	// long as the mode lasts; empty for nobody.
	standing string
	orders   map[string]*order // by token
	queue    []string          // of tokens, the oldest first

	life context.Context // ends all that belongs to the mode
	end  context.CancelFunc
}

func (d *door) open() {
	d.enter(Bench)
}

// enter begins a mode anew: what belongs to the one before has ended.
func (d *door) enter(mode Mode) {
	if d.end != nil {
		d.end()
	}
	d.mode, d.unlocked, d.standing = mode, time.Time{}, ""
	d.unlocking++
	d.releases, d.orders, d.queue = map[string]*release{}, map[string]*order{}, nil
	d.life, d.end = context.WithCancel(context.Background())
}

// mostOrders bounds the orders that wait to be confirmed, orderLife how long
// one does.
const (
	mostOrders = 256
	orderLife  = 10 * time.Minute
)

// keep gives an order its token, by which it is carried out once.
func (d *door) keep(o *order) {
	o.token = rand.Text()
	d.orders[o.token] = o
	d.queue = append(d.queue, o.token)
	for len(d.queue) > mostOrders ||
		len(d.queue) > 0 && (d.orders[d.queue[0]] == nil || time.Since(d.orders[d.queue[0]].made) > orderLife) {
		delete(d.orders, d.queue[0])
		d.queue = d.queue[1:]
	}
}

// SetMode goes to the bench or to the plant. All that belongs to the mode before
// ends with it, before SetMode returns: runs, crossings, tries, sweeps, orders,
// and writes that wait.
func (e *Engine) SetMode(mode Mode) error {
	if mode != Bench && mode != Plant {
		return problem.New("mode", fmt.Sprintf("%q is neither bench nor plant.", mode), "")
	}
	e.door.shut.Lock()
	e.mu.Lock()
	if e.door.mode == mode || e.closed {
		e.mu.Unlock()
		e.door.shut.Unlock()
		return nil
	}
	ending := e.endAll()
	e.sweeps = nil
	clear(e.carriers)
	clear(e.ended)
	clear(e.told)
	clear(e.heard)
	e.door.enter(mode)
	e.Hub.reset()
	e.proved.forget()
	for i := range e.site.Devices {
		e.Hub.follow(&e.site.Devices[i])
	}
	e.watchHosts()
	e.mu.Unlock()
	e.door.shut.Unlock()
	for _, done := range ending {
		<-done
	}
	return nil
}

// Mode returns the mode.
func (e *Engine) Mode() Mode {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.door.mode
}

// Unlock allows writes by hand to a plant for a time; 0 locks at once, which
// also ends every release of a crossing.
func (e *Engine) Unlock(for_ time.Duration) {
	e.door.shut.Lock()
	defer e.door.shut.Unlock()
	e.mu.Lock()
	defer e.mu.Unlock()
	if now := time.Now(); for_ <= 0 || now.After(e.door.unlocked) {
		e.door.unlocking++ // to unlock for longer is no other unlocking
	}
	if e.door.unlocked = time.Now().Add(for_); for_ <= 0 {
		clear(e.door.releases)
		e.carry()
	}
}

// authority is who may have an order carried out: a person, or a crossing.
type authority struct {
	crossing string // id; "" for a person
	// certain is set on the command line, where there is no lock: it was said
	// with the order.
	certain bool
}

// pass returns the pass of an order over a channel.
func (e *Engine) pass(o *order, c *channel) Pass {
	return func() (func(), error) {
		e.door.shut.RLock()
		err := e.holds(o)
		if scale, known := e.Hub.scale(o.point); err == nil && known == nil && scale.Power != o.scale.Power {
			err = problem.New("order-changed",
				fmt.Sprintf("The power of ten that the device holds for %s was %d and is %d: the octets would mean "+
					"another value.", o.point.Name, o.scale.Power, scale.Power),
				"Prepare it again.").At(o.where)
		}
		if err == nil && c.dials() != o.dial {
			err = problem.New("order-changed", "The connection goes to another place than the order.",
				"Prepare it again.").At(o.where)
		}
		if err != nil {
			e.door.shut.RUnlock()
			return nil, err
		}
		return e.door.shut.RUnlock, nil
	}
}

// holds reports whether an order still is what was prepared, and may be carried
// out now.
func (e *Engine) holds(o *order) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if o.life.Err() != nil || e.closed {
		return problem.New("order-changed",
			"Ferry has gone from the "+string(o.mode)+" to the "+string(e.door.mode)+" since the order was prepared.",
			"Prepare it again, if it still holds.").At(o.where)
	}
	if changes := o.changes(e); len(changes) > 0 {
		return problem.New("order-changed",
			"What was confirmed is no longer what would be written: "+strings.Join(changes, "; ")+".",
			"Look at it as it is now, and prepare the write again.").At(o.where)
	}
	switch {
	case e.door.mode != Plant || o.by.certain:
	case o.by.crossing != "":
		if r := e.door.releases[o.by.crossing]; e.door.standing == "" && !r.holds(time.Now()) {
			return problem.New("not-released", "The crossing is not released to write on the plant.",
				"Release it by name.").At(o.where)
		}
	case time.Now().After(e.door.unlocked):
		return problem.New("locked", "Writing to the plant is locked.", "Unlock it for some minutes first.").At(o.where)
	case o.unlocking != e.door.unlocking:
		return problem.New("locked", "The lock came back after this order was prepared.",
			"Prepare it again, if it still holds.").At(o.where)
	}
	return nil
}

// changes lists what of the things that an order was prepared from is another
// now, in words. The lock is held.
func (o *order) changes(e *Engine) (list []string) {
	if e.site == o.site {
		// Nothing was edited; a permission to ask on a line may have ended.
		if target, _, err := e.targetOf(o.link); err != nil {
			return []string{strings.TrimSuffix(problem.From(err, "target").Sentence, ".")}
		} else if now := e.dialNow(o.link, &target); now != o.dial {
			return []string{"it would go to " + now + " in place of " + o.dial}
		}
		return nil
	}
	device, point := e.site.Point(o.point.ID)
	link := e.site.Link(o.link.ID)
	if point == nil || link == nil || device.ID != o.device.ID || link.Answering != device.ID {
		return []string{"the point or its link is no longer in the site"}
	}
	said := func(what, was, is string) {
		if was != is {
			list = append(list, fmt.Sprintf("%s was %s and is %s", what, quoted(was), quoted(is)))
		}
	}
	said("the name of the device", o.device.Name, device.Name)
	if scheme, err := device.SchemeOf(point); err == nil {
		for _, column := range regmap.Columns() {
			if !slices.Contains(besideTheWrite, column) {
				said("the "+string(column)+" of "+o.point.Name, regmap.Cell(scheme, o.point, column),
					regmap.Cell(scheme, point, column))
			}
		}
	}
	if len(list) == 0 && !point.SameReading(o.point) {
		list = append(list, "how "+o.point.Name+" is read has changed")
	}
	said("the protocol", o.link.Protocol, link.Protocol)
	if _, def, err := DriverOf(link.Protocol); err == nil {
		for _, s := range def.Settings {
			said("the "+s.Title, def.Value(o.link.Settings, s.Key).String(),
				def.Value(link.Settings, s.Key).String())
		}
	}
	target, _, err := e.targetOf(link)
	if err != nil {
		return append(list, strings.TrimSuffix(problem.From(err, "target").Sentence, "."))
	}
	said("where it goes", o.dial, target.Dial)
	said("the format of the line", o.format, target.Format.String())
	if port := device.PortFor(link); port != nil && o.host != port.Host {
		said("the address", o.host, port.Host)
	}
	return list
}

// besideTheWrite are the columns of a map that change nothing of what is
// written.
var besideTheWrite = []regmap.Column{regmap.Pace, regmap.Remark, regmap.Change, regmap.Low, regmap.High,
	regmap.Decimals}

func quoted(text string) string {
	if text == "" {
		return "empty"
	}
	return text
}

// Release is the permission of one crossing to write on a plant.
type Release struct {
	Crossing string `json:"crossing"`
	// UntilMs is when it ends, in milliseconds since 1970.
	UntilMs int64  `json:"untilMs"`
	By      string `json:"by"`
}

// release is a Release with what it was given for.
type release struct {
	Release
	print [sha256.Size]byte // of the crossing as it was released
}

func (r *release) holds(now time.Time) bool { return r != nil && now.UnixMilli() < r.UntilMs }

// LongestRelease bounds the time for which a crossing is released.
const LongestRelease = 24 * time.Hour

// Release lets crossings write on the plant for a time, as they are now: one
// that is changed meanwhile is no longer released. 0 ends their release.
func (e *Engine) Release(crossings []string, for_ time.Duration, who string) error {
	e.door.shut.Lock()
	defer e.door.shut.Unlock()
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.door.mode != Plant {
		return problem.New("bench", "On the bench crossings need no release.", "Go to the plant first.")
	}
	if for_ < 0 || for_ > LongestRelease {
		return problem.New("too-long", "A crossing can be released for up to 24 hours.",
			"Give a shorter time, and release it again.")
	}
	for _, id := range crossings {
		if !slices.ContainsFunc(e.site.Crossings, func(x site.Crossing) bool { return x.ID == id }) {
			return problem.New("gone", "The crossing is no longer in the site.", "Reload to see what changed.").At(id)
		}
	}
	until := time.Now().Add(for_)
	for _, id := range crossings {
		if for_ == 0 {
			delete(e.door.releases, id)
			continue
		}
		if c := e.carriers[id]; c != nil && !e.door.releases[id].holds(time.Now()) {
			c.anew.Store(true) // who releases it wants the target to follow now
		}
		e.door.releases[id] = &release{Release{id, until.UnixMilli(), who}, e.crossingPrint(id).print}
		life := e.door.life
		time.AfterFunc(for_+time.Millisecond, func() {
			if life.Err() == nil {
				e.mu.Lock()
				defer e.mu.Unlock()
				defer unharmed("the end of a release")
				e.carry()
			}
		})
	}
	e.carry()
	return nil
}

// ReleaseAll lets every crossing write on the plant, as it is and will be, until the
// mode is left. It is for a Ferry without windows, whose command line says so.
func (e *Engine) ReleaseAll(who string) error {
	e.door.shut.Lock()
	defer e.door.shut.Unlock()
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.door.mode != Plant {
		return problem.New("bench", "On the bench crossings need no release.", "Go to the plant first.")
	}
	e.door.standing = who
	e.carry()
	return nil
}

// released lists the releases that hold. The lock is held.
func (e *Engine) released() []Release {
	list := []Release{}
	now := time.Now()
	for i := range e.site.Crossings {
		if r := e.door.releases[e.site.Crossings[i].ID]; r.holds(now) {
			list = append(list, r.Release)
		}
	}
	return list
}
