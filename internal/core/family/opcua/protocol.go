package opcua

import (
	"errors"
	"fmt"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Keys of settings.
const (
	KeyPath        = "path"
	KeyPolicy      = "policy"
	KeyMode        = "mode"
	KeyUser        = "user"
	KeyPassword    = "password"
	KeyTrusts      = "trusts"
	KeyCertificate = "certificate"
	KeyKey         = "key"
	KeyPublish     = "publishMs"
	KeyQueue       = "queue"
	KeyAliveEvery  = "keepAlive"
	KeyAtOnce      = "atOnce"
	// Those of the answering end.
	KeyNobody  = "nobody"
	KeyUsers   = "users"
	KeyOffers  = "offers"
	KeyShows   = "shows"
	KeyShowKey = "showKey"
	KeyCallers = "callers"
)

// What an answering end lets nobody in particular do, and over which channels sessions begin.
const (
	NobodyNot    = "not"
	NobodyReads  = "reads"
	NobodyWrites = "writes"
	OffersBare   = "bare"
	OffersBoth   = "both"
	OffersSecure = "secured"
)

// The security policies, by the last part of their addresses (OPC 10000-7), and the modes (OPC
// 10000-4, clause 7.20).
const (
	PolicyNone   = "None"
	ModeNone     = "none"
	ModeSign     = "sign"
	ModeEncrypt  = "encrypt"
	PolicyPrefix = "http://opcfoundation.org/UA/SecurityPolicy#"
)

// TCP is OPC UA over its own binary protocol (OPC 10000-6, clause 7.2).
var TCP = &protocol.Def{
	Name: "opc.tcp", Title: "OPC UA", Asker: "client", Answerer: "server", Medium: "ethernet",
	Example: "nsu=urn:skerry:hall;s=Tank.Oxygen", Turns: protocol.TurnsOfLink, Scheme: Scheme, Rules: rules{},
	Vocabulary: &protocol.Vocabulary{Headings: map[string][]string{"address": {"nodeid", "node id", "node"}}},
	Settings: []protocol.Setting{
		{Key: protocol.KeyPort, Title: "TCP port", End: protocol.BothEnds, Default: protocol.OfInt(4840), Least: 1,
			Most: 65535, Help: "4840 is usual.", Stop: "address", Shows: "the connection is refused"},
		{Key: KeyPath, Title: "Path of the endpoint", Kind: protocol.Text, End: protocol.BothEnds, Most: 1000, Like: "/hall",
			Help: "What stands behind host and port in the address of the endpoint; empty for none.", Stop: "session",
			Shows: "the server has no such endpoint"},
		{Key: KeyPolicy, Title: "Security policy", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText(PolicyNone),
			Choices: []protocol.Option{{Value: PolicyNone, Title: "none"}, {Value: "Basic256Sha256", Title: "Basic256Sha256"},
				{Value: "Aes128_Sha256_RsaOaep", Title: "Aes128-Sha256-RsaOaep"},
				{Value: "Aes256_Sha256_RsaPss", Title: "Aes256-Sha256-RsaPss"}},
			Stop: "session", Shows: "the server does not offer the policy"},
		{Key: KeyMode, Title: "Security mode", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText(ModeNone),
			Choices: []protocol.Option{{Value: ModeNone, Title: "none"}, {Value: ModeSign, Title: "signed"},
				{Value: ModeEncrypt, Title: "signed and encrypted"}}, Stop: "session", Shows: "the server does not offer the mode"},
		{Key: KeyUser, Title: "User", Kind: protocol.Text, End: protocol.Asking, Stop: "session",
			Help: "Empty for nobody in particular.", Shows: "the server refuses the user"},
		{Key: KeyPassword, Title: "Password", Kind: protocol.Secret, End: protocol.Asking, Stop: "session",
			Shows: "the server refuses the user"},
		{Key: KeyTrusts, Title: "Trusts", Kind: protocol.File, End: protocol.Asking, Stop: "session",
			Help:  "The certificate of the server, or of who signed it, in PEM. Without it no secured session begins.",
			Shows: "the certificate is not trusted"},
		{Key: KeyCertificate, Title: "Own certificate", Kind: protocol.File, End: protocol.Asking, Stop: "session",
			Shows: "the server does not trust it"},
		{Key: KeyKey, Title: "Key of it", Kind: protocol.Secret, End: protocol.Asking, Stop: "session",
			Shows: "the certificate cannot be used"},
		{Key: KeyPublish, Title: "Published every", Unit: "ms", End: protocol.Asking, Default: protocol.OfInt(500), Least: 10,
			Most: 3_600_000, Help: "How often the server sends what has changed.", Stop: "pace", Shows: "values come late"},
		{Key: KeyQueue, Title: "Queue of each node", End: protocol.Asking, Default: protocol.OfInt(10), Least: 1,
			Most: 10_000, Help: "How many values the server keeps of a node between two messages.", Stop: "pace",
			Shows: "values between two messages are lost"},
		{Key: KeyAliveEvery, Title: "Sign of life every", Unit: "messages", End: protocol.Asking, Default: protocol.OfInt(10),
			Least: 1,
			Most:  10_000, Help: "After so many times without anything new, the server says that it is there.", Stop: "pace",
			Shows: "a dead connection is found late"},
		{Key: KeyAtOnce, Title: "Nodes in one message", End: protocol.Asking, Default: protocol.OfInt(500), Least: 1,
			Most: 10_000, Stop: "points", Shows: "the server refuses the message"},
		{Key: KeyNobody, Title: "Without a name", Kind: protocol.Choice, End: protocol.Answering,
			Default: protocol.OfText(NobodyReads), Choices: []protocol.Option{{Value: NobodyNot, Title: "nobody comes in"},
				{Value: NobodyReads, Title: "clients read"}, {Value: NobodyWrites, Title: "clients read and write"}},
			Stop: "session", Shows: "who gives no name is refused, or cannot write"},
		{Key: KeyUsers, Title: "Users", Kind: protocol.Secret, End: protocol.Answering, Stop: "session",
			Help:  "One to a line, as name:password for who may write, and name:password:reads for who may only read.",
			Shows: "the user is refused"},
		{Key: KeyOffers, Title: "Sessions begin", Kind: protocol.Choice, End: protocol.Answering,
			Default: protocol.OfText(OffersBare),
			Choices: []protocol.Option{{Value: OffersBare, Title: "over unsecured channels"},
				{Value: OffersBoth, Title: "over both kinds of channels"}, {Value: OffersSecure, Title: "over secured channels"}},
			Help: "Secured channels need a certificate of this end, and the list of certificates that it trusts.",
			Stop: "session", Shows: "the policy or the mode is not offered"},
		{Key: KeyShows, Title: "Certificate shown", Kind: protocol.File, End: protocol.Answering, Stop: "session",
			Help: "Clients have to trust it.", Shows: "clients do not trust it"},
		{Key: KeyShowKey, Title: "Key of the certificate", Kind: protocol.Secret, End: protocol.Answering, Stop: "session",
			Shows: "the certificate cannot be used"},
		{Key: KeyCallers, Title: "Trusted clients", Kind: protocol.File, End: protocol.Answering, Stop: "session",
			Help:  "The certificates of clients, or of who signed them, in PEM, one behind the other.",
			Shows: "clients are refused for their certificates"},
		{Key: protocol.KeyWithin, Title: "Answer within", Unit: "ms", End: protocol.Asking, Default: protocol.OfInt(5000),
			Least: 100, Most: 60000, Stop: "session", Shows: "a slow server is taken for a dead one"},
	},
}

func init() { protocol.Register(TCP) }

type rules struct{}

// headOctets are those of a message with its chunk and sequence headers, its security tokens,
// the header of a response, and of IP and TCP under it.
const headOctets = 8 + 4 + 4 + 8 + 4 + 24 + 54

// Expected: one message for each publishing interval, with a change a second assumed of each
// node, of some 30 octets: handle, value, status and two times.
func (rules) Expected(s protocol.Settings, wanted []protocol.Wanted) []protocol.Load {
	every := float64(TCP.Int(s, KeyPublish))
	load := protocol.Load{Title: "notifications", PeriodMs: every, Event: true, ToldMs: every, Octets: 2 * headOctets}
	for _, w := range wanted {
		load.Octets += max(1, int(30*min(1, every/1000)))
		load.Points = append(load.Points, w.ID)
	}
	return []protocol.Load{load}
}

// Lapse: the server says something at the latest after so many publishing intervals, and is
// given as long again.
func (rules) Lapse(s protocol.Settings) protocol.Lapse {
	return protocol.Lapse{AfterMs: 2*TCP.Int(s, KeyPublish)*TCP.Int(s, KeyAliveEvery) + TCP.Int(s, protocol.KeyWithin),
		Quality: value.Bad}
}

func (rules) Writable(a address.Address) error {
	n, ok := NodeOf(a)
	switch {
	case !ok:
		return fmt.Errorf("address %s is no node", a)
	case n.Field != "":
		return errors.New("a value in a structure is read, and not written without the others")
	}
	return nil
}

func (rules) WriteItem(address.Address) string { return "Write" }

func (rules) ItemBytes(a address.Address, _ value.Shape) (out, in int) {
	_, name, _ := a.Name()
	return headOctets + len(name) + 40, headOctets + 12
}

// Deadbands: a client asks for one with each node (OPC 10000-4, clause 7.22.2).
func (rules) Deadbands() {}

// Listed is what the places of a server are called that it can be asked to list.
func (rules) Listed() string { return "nodes" }

// CheckEndpoint says why settings do not fit each other; nil where they do.
func CheckEndpoint(s protocol.Settings) error {
	policy, mode := TCP.Value(s, KeyPolicy).Text(), TCP.Value(s, KeyMode).Text()
	switch {
	case policy == PolicyNone && mode != ModeNone:
		return errors.New("a session that is signed needs a security policy: choose one")
	case policy != PolicyNone && mode == ModeNone:
		return errors.New("a security policy needs a mode: signed, or signed and encrypted")
	}
	return nil
}

// The names of Ferry's applications, which certificates have.
const (
	ApplicationAsks   = "urn:ferry"
	ApplicationServes = "urn:ferry:Ferry"
)

// SecureKeys are the settings by which an end shows who it is.
func (rules) SecureKeys(end protocol.End) protocol.SecureKeys {
	if end == protocol.Answering {
		return protocol.SecureKeys{Certificate: KeyShows, Key: KeyShowKey, Trusts: KeyCallers, Application: ApplicationServes}
	}
	return protocol.SecureKeys{Certificate: KeyCertificate, Key: KeyKey, Trusts: KeyTrusts, Application: ApplicationAsks}
}

// Offered is what the ways are called in which a server lets somebody in.
func (rules) Offered() string { return "endpoints" }

// Before is the namespace that most of the known nodes have, for texts that name nodes there.
func (rules) Before(known []address.Address) string {
	counts, most, best := map[string]int{}, 0, ""
	for _, a := range known {
		if n, ok := NodeOf(a); ok && n.Kind == String {
			n.ID, n.Element, n.Field = "", -1, ""
			before := n.String()
			if counts[before]++; counts[before] > most {
				most, best = counts[before], before
			}
		}
	}
	return best
}
