package opcua

import (
	"math"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/gopcua/opcua/ua"
)

// messages are of every kind that is read, with every type of value.
func messages() []any {
	at := time.Date(2026, 11, 27, 8, 10, 0, 123456700, time.UTC)
	head := &ua.ResponseHeader{Timestamp: at, RequestHandle: 7, ServiceDiagnostics: &ua.DiagnosticInfo{},
		StringTable: []string{"a"}, AdditionalHeader: &ua.ExtensionObject{TypeID: ua.NewTwoByteExpandedNodeID(0)}}
	asks := &ua.RequestHeader{AuthenticationToken: ua.NewByteStringNodeID(0, []byte{1, 2, 3}), Timestamp: at,
		RequestHandle: 9, AdditionalHeader: &ua.ExtensionObject{TypeID: ua.NewTwoByteExpandedNodeID(0)}}
	var values []*ua.DataValue
	for _, v := range []any{true, int8(-3), byte(200), int16(-300), uint16(60000), int32(-70000), uint32(4e9),
		int64(math.MinInt64), uint64(math.MaxUint64),
		float32(9.25), 9.21, "Oxygen µ", at, []byte{1, 2}, ua.XMLElement("<a/>"), ua.NewStringNodeID(2, "Tank"),
		ua.NewGUIDNodeID(3, "72962B91-FA75-4AE6-8D28-B404DC7DAF63"),
		ua.StatusCode(0x80340000), &ua.QualifiedName{NamespaceIndex: 2, Name: "x"}, ua.NewLocalizedText("Sauerstoff"),
		[]float64{1, 2, 3}, []string{}, []bool{true, false}, ua.ByteArray{7, 8},
		ua.NewExtensionObject(&ua.EUInformation{NamespaceURI: "u", UnitID: 5, DisplayName: ua.NewLocalizedText("mg/L"),
			Description: ua.NewLocalizedText("")}),
		[]*ua.LocalizedText{ua.NewLocalizedText("a")}} {
		variant, err := ua.NewVariant(v)
		if err != nil {
			panic(err)
		}
		values = append(values, &ua.DataValue{EncodingMask: 0x0D | 0x02, Value: variant, Status: 0x40900000,
			SourceTimestamp: at, ServerTimestamp: at})
	}
	values = append(values, &ua.DataValue{EncodingMask: 2, Status: 0x80340000})
	return []any{
		&ua.ReadResponse{ResponseHeader: head, Results: values,
			DiagnosticInfos: []*ua.DiagnosticInfo{{EncodingMask: 0x10, AdditionalInfo: "why"}}},
		&ua.ReadRequest{RequestHeader: asks, NodesToRead: []*ua.ReadValueID{{NodeID: ua.NewNumericNodeID(2, 70000),
			AttributeID: 13, DataEncoding: &ua.QualifiedName{}}}},
		&ua.BrowseResponse{ResponseHeader: head, DiagnosticInfos: []*ua.DiagnosticInfo{},
			Results: []*ua.BrowseResult{{ContinuationPoint: []byte{9}, References: []*ua.ReferenceDescription{{
				ReferenceTypeID: ua.NewTwoByteNodeID(35), IsForward: true, NodeID: ua.NewExpandedNodeID(ua.NewStringNodeID(2, "T"),
					"urn:x", 3),
				BrowseName: &ua.QualifiedName{Name: "T"}, DisplayName: ua.NewLocalizedText("T"), NodeClass: 1,
				TypeDefinition: ua.NewExpandedNodeID(ua.NewFourByteNodeID(0, 61), "", 0)}}}}},
		&ua.PublishResponse{ResponseHeader: head, SubscriptionID: 4, AvailableSequenceNumbers: []uint32{1, 2},
			Results: []ua.StatusCode{0}, DiagnosticInfos: []*ua.DiagnosticInfo{},
			NotificationMessage: &ua.NotificationMessage{SequenceNumber: 3, PublishTime: at,
				NotificationData: []*ua.ExtensionObject{
					ua.NewExtensionObject(&ua.DataChangeNotification{DiagnosticInfos: []*ua.DiagnosticInfo{},
						MonitoredItems: []*ua.MonitoredItemNotification{{ClientHandle: 1, Value: values[10]}}})}}},
		&ua.ActivateSessionRequest{RequestHeader: asks, ClientSignature: &ua.SignatureData{},
			ClientSoftwareCertificates: []*ua.SignedSoftwareCertificate{}, LocaleIDs: []string{"en"},
			UserIdentityToken: ua.NewExtensionObject(&ua.UserNameIdentityToken{PolicyID: "name", UserName: "Ines",
				Password: []byte("p")}),
			UserTokenSignature: &ua.SignatureData{}},
	}
}

// TestDecode: what the library encodes is read as it was, every octet is needed, and none is
// left over.
func TestDecode(t *testing.T) {
	for _, m := range messages() {
		b, err := ua.Encode(m)
		if err != nil {
			t.Fatalf("%T: %v", m, err)
		}
		got := reflect.New(reflect.TypeOf(m).Elem()).Interface()
		if err := Decode(b, got); err != nil {
			t.Errorf("%T: %v", m, err)
			continue
		}
		again, err := ua.Encode(got)
		if err != nil || string(again) != string(b) {
			t.Errorf("%T comes back as something else: %v\n%x\n%x", m, err, b, again)
		}
		for n := range b {
			if Decode(b[:n], reflect.New(reflect.TypeOf(m).Elem()).Interface()) == nil {
				t.Errorf("%T: %d of %d octets are enough", m, n, len(b))
			}
		}
		if err := Decode(append(b, 0), reflect.New(reflect.TypeOf(m).Elem()).Interface()); err == nil ||
			!strings.Contains(err.Error(), "left behind") {
			t.Errorf("%T: with an octet more: %v", m, err)
		}
	}
}

// encoded is what the library makes of a message; ok is false where it cannot.
func encoded(v any) (b []byte, ok bool) {
	defer func() {
		if recover() != nil {
			ok = false
		}
	}()
	b, err := ua.Encode(v)
	return b, err == nil
}

// FuzzDecode: no octets bring it down or take much room, and what it reads is what it says.
func FuzzDecode(f *testing.F) {
	for i, m := range messages() {
		b, err := ua.Encode(m)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(byte(i), b)
	}
	f.Add(byte(0), []byte{0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xFE, 0xFF, 0xFF, 0x7F})
	kinds := messages()
	f.Fuzz(func(t *testing.T, kind byte, b []byte) {
		got := reflect.New(reflect.TypeOf(kinds[int(kind)%len(kinds)]).Elem()).Interface()
		if Decode(b, got) != nil {
			return
		}
		again, ok := encoded(got)
		if !ok {
			return // there is a structure inside that is passed over
		}
		twice := reflect.New(reflect.TypeOf(got).Elem()).Interface()
		if err := Decode(again, twice); err != nil {
			t.Errorf("%x is read, and %x not: %v", b, again, err)
		}
	})
}
