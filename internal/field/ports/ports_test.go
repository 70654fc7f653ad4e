//go:build linux

package ports

import (
	"bufio"
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/serial"

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

// TestCloseWhileUsed: a port is closed while somebody reads, and while somebody writes what does not leave; neither
// goes on at what the system opens next.
func TestCloseWhileUsed(t *testing.T) {
	master, terminal, err := pty.Open()
	if err != nil {
		t.Skip("this machine has no pseudo-terminals: ", err)
	}
	defer master.Close()
	name := terminal.Name()
	if err := terminal.Close(); err != nil {
		t.Fatal(err)
	}
	opened := func() (*Port, chan error) {
		p, err := Open(context.Background(), name, serial.Usual)
		if err != nil {
			t.Fatal(err)
		}
		read := make(chan error, 1)
		go func() {
			for {
				if _, err := p.Read(make([]byte, 8), time.Now().Add(20*time.Millisecond)); err != nil {
					read <- err
					return
				}
			}
		}()
		return p, read
	}
	for range 20 {
		p, read := opened()
		if err := p.Close(); err != nil {
			t.Fatal(err)
		}
		if err := <-read; !errors.Is(err, ErrClosed) {
			t.Errorf("reading ends with %v", err)
		}
		if err := p.Write([]byte{1}, time.Now().Add(time.Second)); !errors.Is(err, ErrClosed) {
			t.Errorf("writing to a closed port: %v", err)
		}
	}
	p, read := opened()
	// Nobody takes it: more than a terminal holds does not leave.
	if err := p.Write(make([]byte, 1<<20), time.Now().Add(30*time.Millisecond)); !errors.Is(err, ErrBlocked) {
		t.Fatalf("%v", err)
	}
	if err := p.Close(); err != nil && !errors.Is(err, ErrBlocked) {
		t.Fatal(err)
	}
	<-read
	go func() { _, _ = io.Copy(io.Discard, master) }() // ends with the test
	select {
	case <-p.gone:
	case <-time.After(10 * time.Second):
		t.Error("it is not closed when the write ends")
	}
	p, _ = opened()
	if err := p.Close(); err != nil {
		t.Error(err)
	}
}
