package enip

// Endpoint is the answering end of one connection of TCP: it grants a session and hands
// messages on.
type Endpoint struct {
	Session uint32 // granted; 0 for none
	// Grant is the session that is granted, 0 for none, and Identity who the device is.
	Grant    func() uint32
	Identity func() Identity
	// Message answers a message without a connection, with further items behind it;
	// Connected one over a connection, which silence leaves unanswered.
	Message   func(c *Carried) (answer []byte, more []Item)
	Connected func(c *Carried) (data []byte, ok bool)
}

// Status codes of the encapsulation (volume 2, table 2-3.3).
const (
	badCommand = 0x01
	noMemory   = 0x02
	badData    = 0x03
	noSession  = 0x64
)

// Answer answers a frame; silent is set where nothing is, and ends where the connection
// ends.
func (e *Endpoint) Answer(f *Frame) (reply Frame, silent, ends bool) {
	reply = *f
	reply.Data = nil
	switch f.Command {
	case Register:
		reply.Data = RegisterData()
		if e.Session = e.Grant(); e.Session == 0 {
			reply.Status = noMemory
			break
		}
		reply.Session = e.Session
	case Unregister:
		return reply, true, true
	case Nop:
		return reply, true, false
	case ListIdentity:
		id := e.Identity()
		reply.Data = AppendIdentity(nil, &id)
	case SendRRData:
		c, err := ParseCarried(f.Data)
		switch {
		case e.Session == 0 || f.Session != e.Session:
			reply.Status = noSession
		case err != nil || c.Connected:
			reply.Status = badData
		default:
			answer, more := e.Message(&c)
			reply.Data = AppendUnconnected(nil, answer, more...)
		}
	case SendUnitData:
		c, err := ParseCarried(f.Data)
		switch {
		case e.Session == 0 || f.Session != e.Session:
			reply.Status = noSession
		case err != nil || !c.Connected || e.Connected == nil:
			return reply, true, false // of a connection that is not there nothing is heard
		default:
			data, ok := e.Connected(&c)
			if !ok {
				return reply, true, false
			}
			reply.Data, reply.Context = data, [8]byte{}
		}
	default:
		reply.Status = badCommand
	}
	return reply, false, false
}

// AnswerWho answers a question for the identity object (volume 1, clause 5A-2).
func AnswerWho(r *Request, id *Identity) (status byte, data []byte) {
	who := AppendWho(nil, id)
	spans := map[int][2]int{1: {0, 2}, 2: {2, 4}, 3: {4, 6}, 4: {6, 8}, 5: {8, 10}, 6: {10, 14}, 7: {14, len(who)}}
	span, known := spans[r.Path.Attribute]
	switch {
	case r.Path.Instance != 1:
		return 0x16, nil
	case r.Service == GetAll:
		return 0, who
	case r.Service == GetSingle && known:
		return 0, who[span[0]:span[1]]
	case r.Service == GetSingle:
		return 0x14, nil
	}
	return 0x08, nil
}
