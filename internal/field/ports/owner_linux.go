package ports

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// lockFiles is where programs that share serial ports leave their process
// number, by the Filesystem Hierarchy Standard 3.0, clause 5.9.
const lockFiles = "/var/lock/LCK.."

// Owner names the program that has a port open, as far as this user may know;
// empty if none but this one.
func Owner(path string) string {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		real = path
	}
	own := os.Getpid()
	if text, err := os.ReadFile(lockFiles + filepath.Base(real)); err == nil {
		if pid, err := strconv.Atoi(strings.TrimSpace(string(text))); err == nil && pid != own &&
			syscall.Kill(pid, 0) == nil {
			return program(pid)
		}
	}
	processes, err := filepath.Glob("/proc/[0-9]*")
	if err != nil {
		return ""
	}
	for _, dir := range processes {
		pid, err := strconv.Atoi(filepath.Base(dir))
		if err != nil || pid == own {
			continue
		}
		files, err := os.ReadDir(dir + "/fd")
		if err != nil {
			continue // of another user
		}
		holds, plays := false, false
		for _, f := range files {
			to, err := os.Readlink(dir + "/fd/" + f.Name())
			if err != nil {
				continue
			}
			holds = holds || to == real
			plays = plays || isFarSide(dir+"/fdinfo/"+f.Name(), to, real)
		}
		if holds && !plays {
			return program(pid)
		}
	}
	return ""
}

// isFarSide reports whether an open file is the other side of a pseudo-terminal:
// whoever holds both sides plays the line, and keeps this one open only so that
// it stays. proc(5) gives the number of the terminal as tty-index.
func isFarSide(info, to, terminal string) bool {
	number, ok := strings.CutPrefix(terminal, "/dev/pts/")
	if !ok || !strings.HasSuffix(to, "/ptmx") {
		return false
	}
	text, err := os.ReadFile(info)
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(text)) {
		if key, value, _ := strings.Cut(line, ":"); key == "tty-index" {
			return strings.TrimSpace(value) == number
		}
	}
	return false
}

func program(pid int) string {
	name, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
	if err != nil {
		return fmt.Sprintf("process %d", pid)
	}
	return fmt.Sprintf("the program %s (process %d)", strings.TrimSpace(string(name)), pid)
}

// trouble says why this user cannot use a port.
func trouble(path string) string {
	if err := syscall.Access(path, 6); err != nil { // to read and to write
		return "this user may not open it"
	}
	return ""
}
