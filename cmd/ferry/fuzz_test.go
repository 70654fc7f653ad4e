package main

import (
	family "ferry/internal/core/family/modbus"
	"testing"

	"ferry/internal/core/site"
)

func FuzzArguments(f *testing.F) {
	f.Add("modbus-tcp://127.0.0.1:1502?unit=1", "40003:float32:CDAB=12.5")
	f.Add("modbus-tcp://[::1]:502", "40015:text8=DP-20417")
	f.Add("modbus-tcp://?unit=x", "::=")
	f.Fuzz(func(t *testing.T, url, point string) {
		if target, err := parseTarget(url); err == nil && target.target.Dial == "" {
			t.Fatalf("%q leads nowhere", url)
		}
		def := family.TCP
		if p, _, err := parseAssignment(def, point); err == nil {
			if err := site.CheckPoint(def.Scheme, &p); err != nil {
				t.Fatalf("%q is taken and cannot be kept: %v", point, err)
			}
		}
	})
}
