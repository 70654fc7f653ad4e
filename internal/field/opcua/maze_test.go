package opcua_test

import (
	"bufio"
	"context"
	"errors"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/address"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	wire "ferry/internal/wire/opcua"
)

// maze is a server whose folders lead where no server's should.
type maze struct {
	// inside says what a folder leads to, and whether there is more of it; parts is how often it
	// was asked for more.
	inside func(folder *ua.NodeID, parts int) (list []*ua.ReferenceDescription, more bool)
	value  any
	parts  int
	ids    uint32
}

// serve answers a client until it goes.
func (m *maze) serve(conn net.Conn) error {
	defer conn.Close()
	in := bufio.NewReader(conn)
	if _, err := wire.ReadChunk(in); err != nil {
		return err
	}
	if _, err := conn.Write(wire.Acknowledge()); err != nil {
		return err
	}
	channel := wire.Channel{Takes: 65535, ID: 1, Accept: func(policy string, _ []byte) (wire.Security, error) {
		return wire.Security{Policy: policy, Mode: ua.MessageSecurityModeNone}, nil
	}}
	for {
		chunk, err := wire.ReadChunk(in)
		if err != nil {
			return err
		}
		message, whole, err := channel.Decode(chunk)
		if err != nil || !whole {
			return errors.Join(err, errors.New("cut"))
		}
		request, err := wire.ReadService(message.Body)
		if err != nil {
			return err
		}
		answer := m.answer(request)
		answer.SetHeader(&ua.ResponseHeader{Timestamp: time.Now(), ServiceDiagnostics: &ua.DiagnosticInfo{},
			AdditionalHeader: ua.NewExtensionObject(nil)})
		body, err := wire.WriteService(answer)
		if err != nil {
			return err
		}
		chunks, err := channel.Encode(message.Kind, message.Request, body)
		if err != nil {
			return err
		}
		for _, c := range chunks {
			if _, err := conn.Write(c); err != nil {
				return err
			}
		}
		if message.Kind == wire.OpenChannel {
			if err := channel.Renew(1, nil, nil); err != nil {
				return err
			}
		}
	}
}

func (m *maze) answer(request any) ua.Response {
	result := func(folder *ua.NodeID) *ua.BrowseResult {
		list, more := m.inside(folder, m.parts)
		r := &ua.BrowseResult{References: list}
		if more {
			r.ContinuationPoint = []byte(folder.String())
		}
		return r
	}
	switch r := request.(type) {
	case *ua.OpenSecureChannelRequest:
		return &ua.OpenSecureChannelResponse{SecurityToken: &ua.ChannelSecurityToken{ChannelID: 1, TokenID: 1,
			CreatedAt: time.Now(), RevisedLifetime: 3_600_000}}
	case *ua.CreateSessionRequest:
		return &ua.CreateSessionResponse{SessionID: ua.NewNumericNodeID(0, 1), AuthenticationToken: ua.NewNumericNodeID(0, 2),
			RevisedSessionTimeout: 60_000, ServerSignature: &ua.SignatureData{}}
	case *ua.ActivateSessionRequest:
		return &ua.ActivateSessionResponse{}
	case *ua.ReadRequest:
		answer := &ua.ReadResponse{}
		for _, n := range r.NodesToRead {
			v := &ua.DataValue{EncodingMask: ua.DataValueStatusCode, Status: ua.StatusBadAttributeIDInvalid}
			if n.NodeID.Namespace() == 1 && n.AttributeID == ua.AttributeIDValue {
				v = &ua.DataValue{EncodingMask: ua.DataValueValue, Value: ua.MustVariant(m.value)}
			}
			answer.Results = append(answer.Results, v)
		}
		return answer
	case *ua.BrowseRequest:
		answer := &ua.BrowseResponse{}
		for _, n := range r.NodesToBrowse {
			answer.Results = append(answer.Results, result(n.NodeID))
		}
		return answer
	case *ua.BrowseNextRequest:
		m.parts++
		return &ua.BrowseNextResponse{Results: []*ua.BrowseResult{result(ua.NewNumericNodeID(0, 85))}}
	case *ua.TranslateBrowsePathsToNodeIDsRequest:
		answer := &ua.TranslateBrowsePathsToNodeIDsResponse{}
		for range r.BrowsePaths {
			answer.Results = append(answer.Results, &ua.BrowsePathResult{StatusCode: ua.StatusBadNoMatch})
		}
		return answer
	}
	return &ua.CloseSessionResponse{}
}

// leads is a reference to a node.
func (m *maze) leads(class ua.NodeClass, id uint32, name string) *ua.ReferenceDescription {
	return &ua.ReferenceDescription{ReferenceTypeID: ua.NewNumericNodeID(0, 35), IsForward: true,
		NodeID:     ua.NewExpandedNodeID(ua.NewNumericNodeID(1, id), "", 0),
		BrowseName: &ua.QualifiedName{NamespaceIndex: 1, Name: name}, DisplayName: ua.NewLocalizedText(name),
		NodeClass: class, TypeDefinition: ua.NewTwoByteExpandedNodeID(0)}
}

// enough is how many places are listed of a server that has no end of them.
const enough = 3000

// TestMaze: what leads in circles, on and on, to a million, or nowhere is listed as far as it can
// be, within bounds.
func TestMaze(t *testing.T) {
	driver, _, err := field.DriverOf(family.TCP.Name)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		inside func(m *maze, folder *ua.NodeID, parts int) ([]*ua.ReferenceDescription, bool)
		value  any
		most   int // places
	}{
		"circles": {inside: func(m *maze, _ *ua.NodeID, _ int) ([]*ua.ReferenceDescription, bool) {
			return []*ua.ReferenceDescription{m.leads(ua.NodeClassObject, 1, "a"), m.leads(ua.NodeClassObject, 2, "b"),
				m.leads(ua.NodeClassVariable, 3, "v")}, false
		}, value: 1.5, most: 1},
		"on and on": {inside: func(m *maze, folder *ua.NodeID, _ int) ([]*ua.ReferenceDescription, bool) {
			if folder.Namespace() == 1 && folder.IntID()%2 != 0 {
				return nil, false // of a variable
			}
			m.ids += 2
			return []*ua.ReferenceDescription{m.leads(ua.NodeClassObject, m.ids, strings.Repeat("deeper", 10)),
				m.leads(ua.NodeClassVariable, m.ids+1, "v")}, false
		}, value: 1.5, most: 20},
		"a million": {inside: func(m *maze, folder *ua.NodeID, _ int) (list []*ua.ReferenceDescription, _ bool) {
			if folder.Namespace() == 1 {
				return nil, false // of a variable
			}
			for range 1000 {
				m.ids++
				list = append(list, m.leads(ua.NodeClassVariable, m.ids, "v"))
			}
			return list, true
		}, value: 1.5, most: 2 * enough},
		"more of nothing": {inside: func(*maze, *ua.NodeID, int) ([]*ua.ReferenceDescription, bool) { return nil, true }},
		"names without end": {inside: func(m *maze, _ *ua.NodeID, _ int) (list []*ua.ReferenceDescription, _ bool) {
			if m.ids > 0 {
				return nil, false
			}
			for range 3 {
				m.ids++
				list = append(list, m.leads(ua.NodeClassVariable, m.ids, strings.Repeat("x", 1_000_000)))
			}
			return list, false
		}, value: strings.Repeat("y", 1_000_000), most: 3},
	} {
		t.Run(name, func(t *testing.T) {
			m := &maze{value: c.value}
			m.inside = func(folder *ua.NodeID, parts int) ([]*ua.ReferenceDescription, bool) {
				return c.inside(m, folder, parts)
			}
			ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
			defer cancel()
			conn, reply := driver.Dial(ctx,
				field.Target{Dial: listening(t, func(c net.Conn) { _ = m.serve(c) }, func() error { return nil })})
			if conn == nil {
				t.Fatal(reply.Sentence)
			}
			defer conn.Close()
			held, longest := 0, 0
			for after, more := "", true; more; more = after != "" && held < enough {
				var page []protocol.Held
				if page, after, reply = conn.(field.Lister).List(after); !reply.OK() {
					t.Fatalf("after %d places: %s", held, reply.Sentence)
				}
				for _, h := range page {
					longest = max(longest, len(h.Name), len(h.Remark))
				}
				held += len(page)
			}
			if held > c.most || held < min(1, c.most) || longest > 2000 {
				t.Errorf("%d places, names of up to %d octets", held, longest)
			}
			m.ids, m.parts = 0, 0
			folder, reply := conn.(field.Browser).Browse(address.Address{}, 0, 300)
			if !reply.OK() || len(folder.Entries) > 300 {
				t.Fatalf("%s, %d entries", reply.Sentence, len(folder.Entries))
			}
			for _, e := range folder.Entries {
				if len(e.Name) > 2000 || len(e.Value.String()) > 2000 {
					t.Errorf("an entry of %d octets, its value %d", len(e.Name), len(e.Value.String()))
				}
			}
		})
	}
}
