package api

import "net/http"

// parseBasic reads an Authorization header of RFC 7617.
func parseBasic(header string) (name, passphrase string, ok bool) {
	r := http.Request{Header: http.Header{"Authorization": {header}}}
	return r.BasicAuth()
}
