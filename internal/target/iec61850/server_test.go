package iec61850

import (
	"io"
	"net"
	"os"
	"testing"
	"time"

	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/value"
	wire "ferry/internal/wire/iec61850"
	"ferry/internal/wire/isotcp"
)

// FuzzQuestions: whatever is asked of a server, it does not end by it, and the next is answered.
func FuzzQuestions(f *testing.F) {
	data, err := os.ReadFile("../../bench/concentrator.icd")
	if err != nil {
		f.Fatal(err)
	}
	file, err := family.ReadFile(data)
	if err != nil {
		f.Fatal(err)
	}
	m, err := file.Model("", "")
	if err != nil {
		f.Fatal(err)
	}
	s := New(Config{Write: func(net.Conn, string, family.Ref, value.Value) (int, <-chan Ended) { return -1, nil }}, m)
	f.Cleanup(func() { _ = s.Close() })
	const ld = "SKERRY_CONCLD0"
	name := func(item string) []wire.Name { return []wire.Name{{Domain: ld, Item: item}} }
	on := []wire.Data{{Kind: family.Boolean, Int: 1}}
	for _, q := range [][]byte{
		wire.Question(1, wire.GetNameList, (&wire.NameList{Class: wire.Variables, Domain: ld}).Octets()),
		wire.Question(2, wire.Read, wire.ReadOf(name("GGIO1$ST$Ind1"))),
		wire.Question(3, wire.Write, wire.WriteOf(name("LLN0$BR$brcbStatus01$RptEna"), on)),
		wire.Question(4, wire.Write, wire.WriteOf(name("GGIO9$CO$SPCSO3$Oper"),
			[]wire.Data{{Kind: family.Structure, Parts: []wire.Data{on[0],
				{Kind: family.Structure, Parts: []wire.Data{{Kind: family.Integer, Int: 3, Size: 8}, {Kind: family.OctetString}}},
				{Kind: family.Unsigned, Size: 8}, {Kind: family.UTCTime}, {Kind: family.Boolean},
				{Kind: family.BitString, Size: 2}}}})),
		wire.Question(5, wire.GetTypeOf, wire.TypeOf(name("GGIO9$CO$SPCSO4")[0])),
		wire.Question(6, wire.GetMembersOf, wire.MembersOf(name("LLN0$dsStatus")[0])),
		wire.Question(7, wire.Identify, nil), wire.Conclusion(wire.ConcludeRequest),
	} {
		f.Add(q)
	}
	dial := func(t *testing.T) net.Conn {
		near, far := net.Pipe()
		if err := near.SetDeadline(time.Now().Add(5 * time.Second)); err != nil {
			t.Fatal(err)
		}
		go s.Take(far)
		for _, b := range [][]byte{isotcp.AppendConnect(nil, 1, 1, isotcp.Size8192),
			isotcp.AppendData(nil, wire.Associate(wire.DefaultInitiation(), wire.Selectors{}), isotcp.Size8192)} {
			if _, err := near.Write(b); err != nil {
				t.Fatal(err)
			}
			if _, err := near.Read(make([]byte, 4096)); err != nil {
				t.Fatal(err)
			}
		}
		return near
	}
	f.Fuzz(func(t *testing.T, mms []byte) {
		c := dial(t)
		go func() { _, _ = io.Copy(io.Discard, c) }()
		_, _ = c.Write(isotcp.AppendData(nil, wire.Speak(mms), isotcp.Size8192))
		_ = c.Close()
		other := dial(t)
		defer func() { _ = other.Close() }()
		if _, err := other.Write(isotcp.AppendData(nil, wire.Speak(wire.Question(1, wire.Identify, nil)),
			isotcp.Size8192)); err != nil {
			t.Fatal(err)
		}
		if n, err := other.Read(make([]byte, 4096)); err != nil || n < 20 {
			t.Fatalf("%d octets, %v", n, err)
		}
	})
}
