package recording

import (
	"os"
	"testing"
)

// TestBigFile writes a recording of a gigabyte to where FERRY_BIG says, for measuring.
func TestBigFile(t *testing.T) {
	path := os.Getenv("FERRY_BIG")
	if path == "" {
		t.Skip("FERRY_BIG names no file")
	}
	if err := os.WriteFile(path, busy(t, 3_000_000), 0o644); err != nil {
		t.Fatal(err)
	}
}
