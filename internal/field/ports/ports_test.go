//go:build linux

package ports

import (
	"bufio"
	"io"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/creack/pty"
)

// TestMain plays a helper that holds a pseudo-terminal: both its sides, or one.
func TestMain(m *testing.M) {
	if hold := os.Getenv("FERRY_HOLD"); hold != "" {
		master, terminal, err := pty.Open()
		if err != nil {
			os.Exit(1)
		}
		if hold == "one" {
			_ = master.Close()
		}
		_, _ = os.Stdout.WriteString(terminal.Name() + "\n")
		_, _ = io.Copy(io.Discard, os.Stdin)
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// TestOwnerOfPair: who plays the far side of a pseudo-terminal is not its owner,
// even if it holds both sides; anybody else who has it open is.
func TestOwnerOfPair(t *testing.T) {
	hold := exec.Command(os.Args[0])
	hold.Env = append(os.Environ(), "FERRY_HOLD=both")
	out, err := hold.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	in, err := hold.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := hold.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = in.Close()
		_ = hold.Wait()
	}()
	name, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Fatal(err)
	}
	name = strings.TrimSpace(name)
	if by := Owner(name); by != "" {
		t.Errorf("%s is said to be owned by %s, which plays its far side", name, by)
	}
	terminal, err := os.OpenFile(name, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer terminal.Close()
	cat := exec.Command("cat")
	cat.Stdin = terminal
	if err := cat.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = cat.Process.Kill()
		_ = cat.Wait()
	}()
	if by := Owner(name); !strings.Contains(by, "cat") {
		t.Errorf("%s is owned by %q, want the program cat", name, by)
	}
}
