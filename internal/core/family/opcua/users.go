package opcua

import (
	"crypto/subtle"
	"strings"
)

// UserOf looks a user up in a list: one to a line, as name:password for who may write, and
// name:password:reads for who may only read. A password may have colons, but not end like that.
func UserOf(list, name, password string) (may, writes bool) {
	for line := range strings.Lines(list) {
		of, rest, ok := strings.Cut(strings.TrimRight(line, "\r\n"), ":")
		if !ok || of != name || name == "" {
			continue
		}
		secret, reads := strings.CutSuffix(rest, ":reads")
		if subtle.ConstantTimeCompare([]byte(secret), []byte(password)) == 1 {
			return true, !reads
		}
	}
	return false, false
}
