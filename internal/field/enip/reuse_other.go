//go:build !unix

package enip

import "net"

// sharing lets another socket have the port of one beside it while fn runs; these systems
// need nothing for it.
func sharing(_ *net.UDPConn, fn func() error) error { return fn() }
