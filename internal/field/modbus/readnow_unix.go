//go:build unix

package modbus

import "syscall"

// readNow reads what has come already; 0 where nothing has, or the connection
// has ended.
func readNow(fd uintptr, b []byte) int {
	n, _ := syscall.Read(int(fd), b) // what is wrong shows when it is waited for
	return max(0, n)
}
