package field

import (
	"slices"
	"time"

	"ferry/internal/core/crossing"
	"ferry/internal/core/image"
	"ferry/internal/core/value"
)

// Ending is how a command of a client ended: empty for well, else why not. Unknown is set where the far
// end may have carried it out all the same.
type Ending struct {
	Why     string
	Unknown bool
}

// commanded is a command that a crossing is to carry: once, also if it is the same as before.
type commanded struct {
	value value.Value // in engineering units
	at    time.Time
	ends  chan<- Ending
}

// Command has a client command a point that lies in no area: every command is carried by itself, by all
// crossings from the point, and never again. It is refused where there is none at work; else ends tells
// how it ended.
func (d *Served) Command(c *Client, point string, raw value.Value) (refusal image.Refusal, ends <-chan Ending) {
	d.mu.RLock()
	takers := d.takers[point]
	d.mu.RUnlock()
	if len(takers) == 0 {
		return image.NoTaker, nil
	}
	if refusal := d.Take(c, point, raw); refusal != image.None {
		return refusal, nil
	}
	d.mu.RLock()
	v := d.image.Scaled(point, raw)
	d.mu.RUnlock()
	all, each := make(chan Ending, 1), make(chan Ending, len(takers))
	for _, t := range takers {
		t.command(commanded{v, time.Now(), each})
	}
	go func() {
		var end Ending
		for range takers {
			if e := <-each; e.Why != "" {
				end = e
			}
		}
		all <- end
	}()
	return image.None, all
}

// takes has a carrier carry out the commands of a point, or no longer.
func (d *Served) takes(point string, c *carrier, on bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.takers[point] = slices.DeleteFunc(slices.Clone(d.takers[point]), func(each *carrier) bool { return each == c })
	if on {
		d.takers[point] = append(d.takers[point], c)
	}
}

// command has a command wait for its turn.
func (c *carrier) command(o commanded) {
	c.waiting.Lock()
	over := c.ctx.Err() != nil || len(c.commands) >= mostWaiting
	if !over {
		c.commands = append(c.commands, o)
	}
	c.waiting.Unlock()
	if over {
		o.ends <- Ending{Why: "nothing carries it any more"}
		return
	}
	c.tell()
}

// nextCommand takes the one that has waited longest.
func (c *carrier) nextCommand() (o commanded, ok bool) {
	c.waiting.Lock()
	defer c.waiting.Unlock()
	if len(c.commands) == 0 {
		return o, false
	}
	o, c.commands = c.commands[0], c.commands[1:]
	return o, true
}

// carryCommands carries out the commands that wait, each once.
func (c *carrier) carryCommands() {
	for c.ctx.Err() == nil {
		o, ok := c.nextCommand()
		if !ok {
			break
		}
		o.ends <- c.carryOut(&o)
		c.note()
	}
	if c.flow.State == crossing.Idle {
		c.say(string(crossing.Waiting), "It waits for a command.")
	}
}

func (c *carrier) carryOut(o *commanded) Ending {
	now := time.Now()
	c.look(now)
	c.sight.Sources[0] = crossing.Reading{Value: o.value, Quality: value.Good, At: o.at}
	c.from = Origin{From: c.x.From, Arrived: o.at}
	acts := c.flow.Command(now, &c.sight)
	if len(acts) == 0 {
		if c.flow.Sentence != "" && c.flow.State != crossing.Carrying {
			return Ending{Why: c.flow.Sentence}
		}
		return Ending{Why: "its crossing holds it back"}
	}
	refused := c.flow.Counts.Refused
	c.unknown = false
	for i := range acts {
		c.do(&acts[i])
	}
	if c.flow.Counts.Refused > refused {
		return Ending{Why: c.flow.Sentence, Unknown: c.unknown}
	}
	if c.ctx.Err() != nil {
		return Ending{Why: "the run has ended", Unknown: true}
	}
	return Ending{}
}

// leaveCommands ends those that wait when the crossing ends.
func (c *carrier) leaveCommands() {
	c.waiting.Lock()
	left := c.commands
	c.commands = nil
	c.waiting.Unlock()
	for _, o := range left {
		o.ends <- Ending{Why: "nothing carries it any more"}
	}
}
