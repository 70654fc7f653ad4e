package protocol_test

import (
	"testing"

	_ "ferry/internal/core/family/blocktcp"
	_ "ferry/internal/core/family/modbus"
	. "ferry/internal/core/protocol"
)

// TestUsualOn: each medium has one usual protocol, and maps that name none are
// written for that of Ethernet, as they were in version 0.9.
func TestUsualOn(t *testing.T) {
	for medium, want := range map[string]string{"ethernet": "modbus-tcp", "serial": "modbus-rtu"} {
		if got := UsualOn(medium); got == nil || got.Name != want {
			t.Errorf("on %s it is %+v", medium, got)
		}
	}
	if got := UsualOn("pigeon"); got != nil {
		t.Errorf("by pigeon it is %s", got.Name)
	}
	if MapOr("") != "modbus-tcp" || MapOr("process-image") != "process-image" {
		t.Error("a map is written for another protocol than it says")
	}
}
