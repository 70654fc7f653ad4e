package site

import (
	"strings"
	"testing"
)

func TestIsHostName(t *testing.T) {
	for text, is := range map[string]bool{
		"broker.skerry.example": true, "broker-2": true, "4cast.example": true, "a": true,
		"": false, "192.0.2.300": false, "1234": false, "a..b": false, ".a": false, "a.": false, "-a": false, "a-": false,
		"a_b": false, "a b": false, "broker:1883": false, "mqtt://broker": false, "brök": false, "192.0.2.1x": false,
		"10.tank.skerry.example":       true,
		strings.Repeat("a", 63) + ".b": true, strings.Repeat("a", 64): false, strings.Repeat("a.", 127) + "b": false,
	} {
		if got := IsHostName(text); got != is {
			t.Errorf("%q: %v", text, got)
		}
	}
}
