package api

import (
	"context"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/certs"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/field"
)

// OfferView is one way in which an answering end lets somebody in.
type OfferView struct {
	Title    string            `json:"title"`
	At       string            `json:"at"`
	Settings protocol.Settings `json:"settings"`
	// Set is where the link is set to it.
	Set    bool     `json:"set"`
	Needs  []string `json:"needs"`
	Users  []string `json:"users"`
	Notes  []string `json:"notes"`
	Cannot string   `json:"cannot"`
	// Shows is the fingerprint of the certificate that it shows, empty for none.
	Shows string `json:"shows"`
}

// ShownView is a certificate of the other end, and why it is not trusted.
type ShownView struct {
	certs.EndCertificate
	Why string `json:"why"` // empty where it is trusted
}

// OffersView is what an answering end offers, and who it says it is.
type OffersView struct {
	Offers []OfferView `json:"offers"`
	// Shown are its certificates, Own is that of this end; nil for none.
	Shown []ShownView           `json:"shown"`
	Own   *certs.EndCertificate `json:"own,omitempty"`
	// AheadMs is by how much its clock is ahead, where Clock is set.
	AheadMs int64 `json:"aheadMs"`
	Clock   bool  `json:"clock"`
}

// FingerprintRequest names a certificate that somebody has compared.
type FingerprintRequest struct {
	Fingerprint string `json:"fingerprint"`
}

// offering asks the answering end of a link what it offers.
func (s *Server) offering(c fiber.Ctx) (*site.Link, *protocol.Def, field.Offered, error) {
	ctx, cancel := context.WithTimeout(c.Context(), 20*time.Second)
	defer cancel()
	link := s.Engine.Site().Link(c.Params("id"))
	offered, err := s.Engine.Offers(ctx, c.Params("id"))
	if err != nil || link == nil {
		return nil, nil, offered, err
	}
	def, _ := protocol.Named(link.Protocol)
	return link, def, offered, nil
}

// postOffers asks the answering end of a link in which ways it lets somebody in.
func (s *Server) postOffers(c fiber.Ctx) error {
	link, def, offered, err := s.offering(c)
	if err != nil {
		return err
	}
	return c.JSON(s.offers(link, def, &offered))
}

func (s *Server) offers(link *site.Link, def *protocol.Def, offered *field.Offered) OffersView {
	v := OffersView{Offers: []OfferView{}, Shown: []ShownView{}, AheadMs: offered.Ahead.Milliseconds(),
		Clock: offered.Clock}
	keys, _ := def.SecureKeys(protocol.Asking)
	trusted := s.keptOf(def, link.Settings, keys.Trusts, protocol.File)
	if own, err := certs.First(s.keptOf(def, link.Settings, keys.Certificate, protocol.File)); err == nil {
		if says, err := certs.Read(own); err == nil {
			v.Own = &says
		}
	}
	for _, o := range offered.Offers {
		one := OfferView{Title: o.Title, At: o.At, Settings: o.Settings, Needs: list(o.Needs), Users: list(o.Users),
			Notes: list(o.Notes), Cannot: o.Cannot, Set: true}
		for key, to := range o.Settings {
			one.Set = one.Set && def.Value(link.Settings, key) == to
		}
		if says, err := certs.Read(o.Certificate); err == nil {
			one.Shows = says.Fingerprint
			if !slices.ContainsFunc(v.Shown, func(x ShownView) bool { return x.Fingerprint == says.Fingerprint }) {
				v.Shown = append(v.Shown, ShownView{says, certs.Untrusted(o.Certificate, trusted, "server", time.Now())})
			}
		}
		v.Offers = append(v.Offers, one)
	}
	return v
}

func list(of []string) []string { return append([]string{}, of...) }

// keptOf is what a setting names; none where it names none, or it is not there.
func (s *Server) keptOf(def *protocol.Def, settings protocol.Settings, key string, kind protocol.Kind) []byte {
	name := def.Value(settings, key).Text()
	if name == "" {
		return nil
	}
	held, err := s.Vault.Get(kind, name)
	if err != nil {
		return nil
	}
	return held
}

// nothingSuch is a certificate that nobody shows any more.
var nothingSuch = problem.New("gone", "Nobody shows this certificate any more.", "Ask again, and compare it anew.")

// postTrust trusts the certificate that the answering end of a link shows, once somebody has
// compared its fingerprint.
func (s *Server) postTrust(c fiber.Ctx) error {
	var r FingerprintRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	link, def, offered, err := s.offering(c)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(offered.Offers, func(o field.Offer) bool {
		return len(o.Certificate) > 0 && certs.Fingerprint(o.Certificate) == r.Fingerprint
	})
	if at < 0 {
		return nothingSuch
	}
	keys, _ := def.SecureKeys(protocol.Asking)
	name, err := s.addTrusted(def, link.Settings, keys.Trusts, "trusted by "+link.ID, offered.Offers[at].Certificate)
	if err != nil {
		return err
	}
	if _, err := s.setLink(c, "trusted a certificate", protocol.Settings{keys.Trusts: protocol.OfText(name)}); err != nil {
		return err
	}
	return c.JSON(s.offers(s.Engine.Site().Link(link.ID), def, &offered))
}

// addTrusted puts a certificate into the file that a setting names, or a new one.
func (s *Server) addTrusted(def *protocol.Def, settings protocol.Settings, key, fresh string, der []byte) (string,
	error) {
	name := def.Value(settings, key).Text()
	if name == "" {
		name = asKept(fresh)
	}
	held, err := s.Vault.Get(protocol.File, name)
	if err != nil {
		held = nil // it begins with this one
	}
	if len(held) > 0 && held[len(held)-1] != '\n' {
		held = append(held, '\n')
	}
	return name, s.Vault.Put(protocol.File, name, append(held, certs.PEM(der)...))
}

// asKept is a name under which something can be kept.
func asKept(of string) string {
	of = strings.Map(func(r rune) rune {
		if r < 128 && (r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' ||
			strings.ContainsRune(" _-", r)) {
			return r
		}
		return '-'
	}, of)
	return strings.Trim(of[:min(len(of), 60)], " _-")
}

// setLink sets settings of a link's asking end.
func (s *Server) setLink(c fiber.Ctx, what string, to protocol.Settings) (int64, error) {
	return s.change(c, what, func(now *site.Site) ([]site.Edit, error) {
		l := now.Link(c.Params("id"))
		if l == nil {
			return nil, problem.New("gone", "The link is no longer in the site.",
				"Reload to see what changed.").At(c.Params("id"))
		}
		changed := *l
		changed.Settings = with(l.Settings, to)
		return []site.Edit{site.Put(site.KindLink, l.ID, "", changed)}, nil
	})
}

func with(s, to protocol.Settings) protocol.Settings {
	out := protocol.Settings{}
	for _, of := range []protocol.Settings{s, to} {
		for key, v := range of {
			out[key] = v
		}
	}
	return out
}

// hosts are the names and addresses by which others reach this machine.
func hosts() (list []string) {
	if name, err := os.Hostname(); err == nil {
		list = append(list, name)
	}
	addresses, err := net.InterfaceAddrs()
	if err != nil {
		return list
	}
	for _, a := range addresses {
		if n, ok := a.(*net.IPNet); ok && !n.IP.IsLinkLocalUnicast() && len(list) < 20 {
			list = append(list, n.IP.String())
		}
	}
	return list
}

// makeCertificate makes one for an end, and keeps it under a name.
func (s *Server) makeCertificate(keys protocol.SecureKeys, name, of string, more ...string) (protocol.Settings, error) {
	certificate, key, err := certs.Make(of, keys.Application, append(hosts(), more...), time.Now())
	if err != nil {
		return nil, problem.From(err, "certificate")
	}
	name = asKept(name)
	if err := s.Vault.Put(protocol.Secret, name, key); err != nil {
		return nil, err
	}
	if err := s.Vault.Put(protocol.File, name, certificate); err != nil {
		return nil, err
	}
	return protocol.Settings{keys.Certificate: protocol.OfText(name), keys.Key: protocol.OfText(name)}, nil
}

// postLinkCertificate makes a certificate for the asking end of a link.
func (s *Server) postLinkCertificate(c fiber.Ctx) error {
	link := s.Engine.Site().Link(c.Params("id"))
	if link == nil {
		return problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(c.Params("id"))
	}
	def, _ := protocol.Named(link.Protocol)
	keys, ok := def.SecureKeys(protocol.Asking)
	if !ok {
		return noCertificates
	}
	set, err := s.makeCertificate(keys, "Ferry asks over "+link.ID, "Ferry")
	if err != nil {
		return err
	}
	seq, err := s.setLink(c, "made a certificate", set)
	if err != nil {
		return err
	}
	return c.JSON(NotedView{"A certificate is made, and kept on this machine. The server has to trust it.", seq})
}

var noCertificates = problem.New("no-certificates", "The ends of its protocol show each other no certificates.", "")

// servedWith finds the port with which a device that Ferry is shows certificates.
func servedWith(now *site.Site, id string) (*site.Device, int, protocol.SecureKeys, *protocol.Def, error) {
	d := now.Device(id)
	if d == nil || !d.Served() {
		return nil, 0, protocol.SecureKeys{}, nil, problem.New("not-served", "Ferry is not this device.",
			"Set that it is, in the panel of the device.").At(id)
	}
	for i := range d.Ports {
		def, _ := protocol.Named(d.Ports[i].Protocol)
		if keys, ok := def.SecureKeys(protocol.Answering); ok {
			return d, i, keys, def, nil
		}
	}
	return nil, 0, protocol.SecureKeys{}, nil, noCertificates
}

// setPort sets settings of the port with which a device that Ferry is shows certificates.
func (s *Server) setPort(c fiber.Ctx, what string, to protocol.Settings) (int64, error) {
	return s.change(c, what, func(now *site.Site) ([]site.Edit, error) {
		d, at, _, _, err := servedWith(now, c.Params("id"))
		if err != nil {
			return nil, err
		}
		changed := *d
		changed.Ports = slices.Clone(d.Ports)
		changed.Ports[at].Settings = with(d.Ports[at].Settings, to)
		changed.Points = nil
		return []site.Edit{site.Put(site.KindDevice, d.ID, "", changed)}, nil
	})
}

// postServedCertificate makes the certificate that Ferry shows as a device.
func (s *Server) postServedCertificate(c fiber.Ctx) error {
	d, at, keys, _, err := servedWith(s.Engine.Site(), c.Params("id"))
	if err != nil {
		return err
	}
	set, err := s.makeCertificate(keys, "Ferry answers as "+d.ID, d.Name, d.Ports[at].Host)
	if err != nil {
		return err
	}
	seq, err := s.setPort(c, "made a certificate for "+d.Name, set)
	if err != nil {
		return err
	}
	return c.JSON(NotedView{"A certificate is made, and kept on this machine. Clients have to trust it.", seq})
}

// StrangersView is whom a device that Ferry is does not trust, and what it shows itself.
type StrangersView struct {
	Own       *certs.EndCertificate  `json:"own,omitempty"`
	Strangers []certs.EndCertificate `json:"strangers"`
}

// getStrangers lists clients of a device that were refused for their certificates.
func (s *Server) getStrangers(c fiber.Ctx) error {
	v := StrangersView{Strangers: []certs.EndCertificate{}}
	if d, at, keys, def, err := servedWith(s.Engine.Site(), c.Params("id")); err == nil {
		if own, err := certs.First(s.keptOf(def, d.Ports[at].Settings, keys.Certificate, protocol.File)); err == nil {
			if says, err := certs.Read(own); err == nil {
				v.Own = &says
			}
		}
	}
	for _, der := range s.strangers(c.Params("id")) {
		if says, err := certs.Read(der); err == nil {
			v.Strangers = append(v.Strangers, says)
		}
	}
	return c.JSON(v)
}

func (s *Server) strangers(device string) [][]byte {
	for _, state := range s.Engine.Serving() {
		if state.Device == device {
			return state.Strangers
		}
	}
	return nil
}

// postBefriend trusts a client that was refused for its certificate.
func (s *Server) postBefriend(c fiber.Ctx) error {
	var r FingerprintRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	d, at, keys, def, err := servedWith(s.Engine.Site(), c.Params("id"))
	if err != nil {
		return err
	}
	all := s.strangers(d.ID)
	i := slices.IndexFunc(all, func(der []byte) bool { return certs.Fingerprint(der) == r.Fingerprint })
	if i < 0 {
		return nothingSuch
	}
	name, err := s.addTrusted(def, d.Ports[at].Settings, keys.Trusts, "trusted by "+d.ID, all[i])
	if err != nil {
		return err
	}
	if _, err := s.setPort(c, "trusted a client of "+d.Name,
		protocol.Settings{keys.Trusts: protocol.OfText(name)}); err != nil {
		return err
	}
	s.Engine.Befriended(d.ID, all[i])
	return s.getStrangers(c)
}

// getKeptFile hands out a file that settings name, as a certificate that the other end is to
// trust.
func (s *Server) getKeptFile(c fiber.Ctx) error {
	held, err := s.Vault.Get(protocol.File, strings.ReplaceAll(c.Params("name"), "%20", " "))
	if err != nil {
		return err
	}
	if _, err := certs.First(held); err != nil {
		return problem.New("no-certificate", "This file is no certificate.",
			"Only certificates are handed out.").At(c.Params("name"))
	}
	c.Set("Content-Type", "application/x-pem-file")
	c.Set("Content-Disposition", `attachment; filename="certificate.pem"`)
	return c.Send(held)
}
