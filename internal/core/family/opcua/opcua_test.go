package opcua

import (
	"strings"
	"testing"

	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// TestNodes: every notation of a node is read, and printed in the one way; what is none says why.
func TestNodes(t *testing.T) {
	for _, c := range []struct{ text, want, err string }{
		{"nsu=urn:skerry:hall;s=Tank.Oxygen", "nsu=urn:skerry:hall;s=Tank.Oxygen", ""},
		{" ns=2;s=Tank.Oxygen ", "ns=2;s=Tank.Oxygen", ""},
		{"ns=0;i=2258", "i=2258", ""},
		{"i=007", "i=7", ""},
		{"nsu=http://opcfoundation.org/UA/;i=2258", "i=2258", ""},
		{"nsu=urn:a%3Bb%25c;s=x", "nsu=urn:a%3Bb%25c;s=x", ""},
		{"s=with;semicolon = and blanks", "s=with;semicolon = and blanks", ""},
		{"ns=3;g=72962b91-fa75-4ae6-8d28-b404dc7daf63", "ns=3;g=72962B91-FA75-4AE6-8D28-B404DC7DAF63", ""},
		{"ns=3;b=M/RbKBsRVkePCePcx24oRA==", "ns=3;b=M/RbKBsRVkePCePcx24oRA==", ""},
		{"ns=2;s=Row [3]", "ns=2;s=Row [3]", ""},
		{"ns=2;s=Row[3]", "ns=2;s=Row[3]", ""},
		{"", "", "names no node"},
		{"Tank.Oxygen", "", "names no node"},
		{"ns=x;s=a", "", "behind ns= comes a number"},
		{"ns=70000;s=a", "", "behind ns= comes a number"},
		{"nsu=urn:skerry", "", "behind the address of the namespace"},
		{"i=4294967296", "", "behind i= comes a number"},
		{"s=", "", "1 to 4096"},
		{"g=123", "", "comes a GUID"},
		{"b=***", "", "base64"},
		{"x=1", "", "no kind of identifier"},
		{"s=" + strings.Repeat("a", 5000), "", "1 to 4096"},
	} {
		n, err := ParseNode(c.text)
		if c.err != "" {
			if err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%.40q: %v", c.text, err)
			}
			continue
		}
		if err != nil || n.String() != c.want {
			t.Errorf("%q is %q, %v", c.text, n.String(), err)
		}
		if again, ok := NodeOf(n.Address()); !ok || again != n {
			t.Errorf("%q comes back as %+v", c.text, again)
		}
	}
	if n, _ := ParseNode("ns=2;s=Row [3]"); n.Element != 3 || n.ID != "Row" {
		t.Errorf("an element is %+v", n)
	}
}

func FuzzParseNode(f *testing.F) {
	for _, seed := range []string{"nsu=urn:a%3Bb;s=x [1]", "ns=2;i=9", "g=72962B91-FA75-4AE6-8D28-B404DC7DAF63", "b=AA==",
		"s= [0]"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		n, err := ParseNode(text)
		if err != nil {
			return
		}
		again, err := ParseNode(n.String())
		if err != nil || again != n {
			t.Errorf("%q is %+v, printed %q, read %+v, %v", text, n, n.String(), again, err)
		}
	})
}

// TestStatus: the severity decides on the quality, and each code says what to do.
func TestStatus(t *testing.T) {
	for _, c := range []struct {
		code    uint32
		quality value.Quality
		says    string
	}{
		{0, value.Good, ""}, {GoodLocalOverride, value.Good, ""},
		{UncertainLastUsable, value.Doubtful, "Uncertain_LastUsableValue"},
		{UncertainLastUsable | 0x0403, value.Doubtful, "Uncertain_LastUsableValue"},
		{0x40FF0000, value.Doubtful, "uncertain (0x40FF0000)"},
		{BadNodeIDUnknown, value.Bad, "no such node"}, {0x80FF0000, value.Bad, "bad (0x80FF0000)"},
	} {
		if quality, says := QualityOf(c.code); quality != c.quality || !strings.Contains(says, c.says) {
			t.Errorf("0x%08X is %s, %q", c.code, quality, says)
		}
	}
	for _, code := range (rules{}).Codes() {
		if d := (rules{}).Decline(code); d.Title == "" || d.Means == "" || d.Causes == "" {
			t.Errorf("0x%08X says %+v", code, d)
		}
	}
	if d := (rules{}).Decline(0x80FE0000); !d.Unsure {
		t.Error("of a code that nobody knows it is said what it did")
	}
}

// TestEndpoint: a policy and a mode go together.
func TestEndpoint(t *testing.T) {
	set := func(policy, mode string) protocol.Settings {
		return protocol.Settings{KeyPolicy: protocol.OfText(policy), KeyMode: protocol.OfText(mode)}
	}
	for _, c := range []struct {
		s  protocol.Settings
		ok bool
	}{{nil, true}, {set(PolicyNone, ModeSign), false}, {set("Basic256Sha256", ModeNone), false},
		{set("Basic256Sha256", ModeEncrypt), true}} {
		if err := CheckEndpoint(c.s); (err == nil) != c.ok {
			t.Errorf("%v: %v", c.s, err)
		}
	}
}

// TestRemark: a value that is good may have something to say for itself.
func TestRemark(t *testing.T) {
	for status, want := range map[uint32]string{0: "", 0x480: "",
		GoodLocalOverride:   "it was set by hand at the source (Good_LocalOverride)",
		GoodClamped | 0x480: "Good_Clamped", 0x00AA0000: "good, with a remark", UncertainInitial: "", BadTimeout: ""} {
		if got := Remark(status); (got == "") != (want == "") || !strings.Contains(got, want) {
			t.Errorf("0x%08X: %q", status, got)
		}
	}
}
