package opcua

import (
	"crypto/rsa"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/certs"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/image"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	target "ferry/internal/target/opcua"
)

// Have answers a client.
func (driver) Have(p *field.Post, _ *field.Client, conn net.Conn) error {
	return field.HaveWhole(p, conn, func() (*serving, func(), error) {
		s := newServing(p)
		return s, s.close, nil
	})
}

// serving is what Ferry answers as at a post, to all its clients.
type serving struct {
	post   *field.Post
	server *target.Server
	done   chan struct{}
	others sync.WaitGroup

	mu      sync.Mutex
	shown   string // by what its certificate was made ready
	secured *target.Secured
}

// looksEvery is how soon a changed map is served.
const looksEvery = 300 * time.Millisecond

func newServing(p *field.Post) *serving {
	s := &serving{post: p, done: make(chan struct{})}
	s.server = target.New(target.Config{Variables: s.variables, User: s.user, Secured: s.security, Only: s.only,
		Turned: func(conn net.Conn, why string) { p.Turn(s.client(conn), why) },
		Asked: func(conn net.Conn, refused bool) {
			if c := s.client(conn); c != nil {
				if c.Asked(); refused {
					c.Refuse()
				}
			}
		},
		About: target.About{Manufacturer: "Ferry", Product: "Ferry", Version: "1"}})
	s.others.Go(s.watch)
	return s
}

func (s *serving) close() {
	close(s.done)
	s.others.Wait()
	_ = s.server.Close() // which ends all that it has
}

// Take answers a client until the connection ends.
func (s *serving) Take(conn net.Conn) { s.server.Take(conn) }

func (s *serving) client(conn net.Conn) *field.Client { return s.post.ClientOf(conn) }

// watch serves the map as it is now. Clients go on.
func (s *serving) watch() {
	tick := time.NewTicker(looksEvery)
	defer tick.Stop()
	was := s.laid()
	for {
		select {
		case <-s.done:
			return
		case <-tick.C:
		}
		if is := s.laid(); is != was {
			was = is
			s.server.Replace()
		}
	}
}

// laid is which map is served.
func (s *serving) laid() string {
	end := s.post.End(0)
	if end == nil {
		return ""
	}
	return fmt.Sprintf("%p %d", end, end.Laid())
}

func (s *serving) settings() protocol.Settings {
	if end := s.post.End(0); end != nil {
		return end.Settings(family.TCP.Name)
	}
	return nil
}

// user says whether somebody may come in, and write.
func (s *serving) user(name, password string) (may, writes bool) {
	end, settings := s.post.End(0), s.settings()
	if end == nil {
		return false, false
	}
	if name == "" {
		how := family.TCP.Value(settings, family.KeyNobody).Text()
		return how != family.NobodyNot, how == family.NobodyWrites && !end.ReadOnly()
	}
	list, err := s.post.Secret(settings, family.KeyUsers)
	if err != nil {
		return false, false
	}
	may, writes = family.UserOf(string(list), name, password)
	return may, writes && !end.ReadOnly()
}

func (s *serving) only() bool {
	return family.TCP.Value(s.settings(), family.KeyOffers).Text() == family.OffersSecure
}

// security is how channels are secured; nil where they are not, or cannot be.
func (s *serving) security() *target.Secured {
	settings := s.settings()
	if family.TCP.Value(settings, family.KeyOffers).Text() == family.OffersBare {
		return nil
	}
	certificate, err := s.post.Secret(settings, family.KeyShows)
	if err != nil {
		return nil
	}
	key, err := s.post.Secret(settings, family.KeyShowKey)
	if err != nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if of := string(certificate) + string(key); s.shown != of {
		s.shown, s.secured = of, nil
		if pair, err := tls.X509KeyPair(certificate, key); err == nil {
			if private, ok := pair.PrivateKey.(*rsa.PrivateKey); ok {
				s.secured = &target.Secured{Certificate: pair.Certificate[0], Key: private, Trusts: s.trusts}
			}
		}
	}
	return s.secured
}

// trusts says why the certificate of a client is not trusted.
func (s *serving) trusts(certificate []byte) error {
	trusted, err := s.post.Secret(s.settings(), family.KeyCallers)
	if err != nil {
		return err
	}
	why := certs.Untrusted(certificate, trusted, "client", time.Now())
	if why == "" {
		return nil
	}
	s.post.Stranger(certificate)
	return errors.New(why)
}

// variables are the points that are served: of names with points, the parts before the last are
// folders.
func (s *serving) variables() (list []target.Variable) {
	end := s.post.End(0)
	if end == nil {
		return nil
	}
	for _, p := range end.Names() {
		n, ok := family.NodeOf(p.Address)
		kind, fits := target.Kinds[p.Type]
		if !ok || !fits || n.Element >= 0 || n.Field != "" {
			continue
		}
		v := target.Variable{URI: n.URI, ID: n.ID, Name: n.ID, Type: kind, Description: p.Remark, Unit: p.Unit, Low: p.Low,
			High: p.High, States: p.States(), Writable: p.Access != site.ReadOnly, Read: s.reads(end, p.ID, kind),
			Write: s.writes(end, p.ID),
			Gave: func(to target.By, reported bool) {
				is := end.Standing(p.ID)
				end.Gave(s.client(to.Conn), p.ID, &is, reported)
			}}
		if v.URI == "" {
			v.URI = "urn:ferry:served"
		}
		if n.Kind != family.String {
			v.Name = p.Name
		}
		list = append(list, v)
	}
	return list
}

// qualities are status codes for what stands in a point.
var qualities = map[value.Quality]ua.StatusCode{value.Good: ua.StatusOK,
	value.Doubtful: ua.StatusCode(family.UncertainLastUsable), value.Bad: ua.StatusCode(family.BadCommunication)}

// reads returns how a point is read in the type of its node.
func (s *serving) reads(end *field.Served, point string, kind ua.TypeID) func() *ua.DataValue {
	return func() *ua.DataValue {
		is := end.Standing(point)
		if is.Value.IsNone() {
			return target.Bad(ua.StatusBadWaitingForInitialData)
		}
		out := target.Good(target.Typed(is.Value, kind))
		if !is.At.IsZero() {
			out.SourceTimestamp = is.At.UTC()
		}
		code, known := qualities[is.Quality]
		if !known {
			code = ua.StatusCode(family.UncertainLastUsable)
		}
		if code != ua.StatusOK {
			out.EncodingMask |= ua.DataValueStatusCode
			out.Status = code
		}
		return out
	}
}

// refusals are status codes for what a point does not take.
var refusals = map[image.Refusal]ua.StatusCode{image.None: ua.StatusOK, image.NoPlace: ua.StatusBadNodeIDUnknown,
	image.ReadOnly: ua.StatusBadNotWritable, image.BadValue: ua.StatusBadOutOfRange}

func (s *serving) writes(end *field.Served, point string) func(target.By, any) ua.StatusCode {
	return func(by target.By, v any) ua.StatusCode {
		plain, ok := target.Plain(v)
		c := s.client(by.Conn)
		if !ok || c == nil {
			return ua.StatusBadTypeMismatch
		}
		code, known := refusals[end.Take(c, point, plain)]
		if !known {
			return ua.StatusBadUnexpectedError
		}
		return code
	}
}
