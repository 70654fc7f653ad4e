package mqtt

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/mqtt"
	"ferry/internal/core/route"
	"ferry/internal/field"
	wire "ferry/internal/wire/mqtt"
)

// stateTopic is where a host tells its state.
func stateTopic(host string) string { return "spBv1.0/STATE/" + host }

// announce says that the host that Ferry is is there, or is not.
func (c *spark) announce(online bool) (int, error) {
	payload, err := json.Marshal(wire.HostState{Online: online, Time: c.since})
	if err != nil {
		return 0, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), c.within)
	defer cancel()
	return c.client.publish(ctx, &message{stateTopic(c.host), payload, 1, true})
}

// stated takes in the state of a host. That Ferry waits for, it is born for once it is
// there; once it says that it goes, the node dies and hangs up, as the standard has it
// (clause 5.8), and waits again. One that says that Ferry itself is not there, of an
// earlier session, is set right.
func (c *spark) stated(host string, payload []byte) {
	s, err := wire.ParseState(payload)
	if err != nil {
		return // whoever wrote that is no host
	}
	c.state.Lock()
	defer c.state.Unlock()
	switch {
	case host == c.host && c.host != "" && !s.Online && c.told:
		go func() { _, _ = c.announce(true) }() // the library waits for this to end; it is told again by whoever asks
	case host != c.primary || c.primary == "" || s.Time < c.primaryAt:
	case s.Online:
		c.primaryAt = s.Time
		if c.primaryOn = true; !c.born.Load() && c.following {
			go func() {
				c.state.Lock()
				defer c.state.Unlock()
				if c.primaryOn && !c.born.Load() {
					_, _ = c.bear() // the first value that is written has it born again
				}
			}()
		}
	case c.primaryOn || c.born.Load():
		c.primaryOn = false
		go func() {
			c.finish(field.Reply{Outcome: exchange.CalledOff, Stop: route.Session,
				Sentence: "the host " + host + " says that it goes: the edge node died with it, and waits for it"})
			c.bye() // with the death of the node
		}()
	}
}

// waits is the refusal of what is published while the host that Ferry waits for is not
// there; nil where nothing is waited for. The state is held.
func (c *spark) waits() *field.Reply {
	if c.primary == "" || c.primaryOn {
		return nil
	}
	return &field.Reply{Outcome: exchange.NotAllowed, Left: true,
		Sentence: fmt.Sprintf("the host %s is not there, and nothing is published before it is", c.primary)}
}

// role says what is wrong with what a session is to be; empty for nothing.
func (c *spark) role() string {
	switch {
	case c.host != "" && c.group != "" && c.node != "":
		return "a session is an edge node or a host, not both: each has a last will of its own. Make a link for each"
	case c.primary != "" && (c.group == "" || c.node == ""):
		return "it is to wait for the host " + c.primary + ", and is no edge node: give it a group and an edge node id"
	}
	return ""
}

// stateTopics are what is subscribed to for the states of hosts.
func (c *spark) stateTopics() (topics []string) {
	if c.primary != "" {
		topics = append(topics, stateTopic(c.primary), "STATE/"+c.primary)
	}
	if c.host != "" {
		topics = append(topics, stateTopic(c.host))
	}
	return topics
}

// hosts makes a session one of a host, or of a node that waits for one, and returns
// its will if it has one.
func (c *spark) hosts(s *session) {
	def := family.Sparkplug
	c.host, c.primary = def.Value(c.settings, family.KeyHost).Text(), def.Value(c.settings, family.KeyPrimary).Text()
	if c.host == "" {
		return
	}
	c.since = millis(time.Now())
	payload, err := json.Marshal(wire.HostState{Time: c.since})
	if err == nil {
		s.will = &message{stateTopic(c.host), payload, 1, true}
	}
	c.farewell = func() { _, _ = c.announce(false) } // a courtesy: the will says the same
}
