// Package codebook says what the numbers mean that boxes and systems show: error codes
// of the protocols that Ferry speaks, and errors of sockets and serial ports, which each
// operating system numbers in its own way.
package codebook

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/capture"
	"ferry/internal/core/protocol"
)

// Meaning is what is said of a number or a name.
type Meaning struct {
	// Of is where the number comes from: a protocol, or an operating system.
	Of     string `json:"of"`
	Number string `json:"number"` // as it is written there
	Name   string `json:"name"`
	Means  string `json:"means"`
	Look   string `json:"look"` // what usually causes it, and where to look
	// Findings are the codes of findings that it is seen as.
	Findings []string `json:"findings,omitempty"`
	numbers  []int    // by which it is looked up, where Number is more than one
}

// system is an error of sockets or ports, with its number in each operating system; 0
// where it has none. Linux, the BSDs with macOS, and Windows.
type system struct {
	name, also       string
	linux, bsd, wins int
	means, look      string
	findings         []string
}

var systems = []system{
	{"ECONNREFUSED", "connection refused; actively refused", 111, 61, 10061,
		"The machine is there, and nothing listens on the port.",
		"Switch the service on in the device, or compare the port number. A device with all its connections taken may " +
			"refuse too, and so does a firewall that is set to say so.", []string{"port-refused", "connection-limit"}},
	{"ETIMEDOUT", "connection timed out", 110, 60, 10060,
		"Nothing came back in time.",
		"Look at power, cable, address and mask. A firewall that swallows what it does not let through looks the same.",
		[]string{"host-silent", "port-silent", "no-answer"}},
	{"EHOSTUNREACH", "no route to host", 113, 65, 10065,
		"There is no way to the host: on its own network nobody has that address, or a router says so.",
		"Compare address and mask at both ends, and look whether the device is switched on.", []string{"host-silent"}},
	{"ENETUNREACH", "network is unreachable", 101, 51, 10051, "This machine knows no way to that network.",
		"Give it an address in that network, or a gateway.", []string{"host-silent"}},
	{"EHOSTDOWN", "host is down", 112, 64, 10064, "The host does not answer on its own network.",
		"Look at power and cable of the device.", []string{"host-silent"}},
	{"ECONNRESET", "connection reset by peer; forcibly closed by the remote host", 104, 54, 10054,
		"The other end tore the connection down.",
		"It was restarted, has too many connections, does not let this address in, or did not understand what was said.",
		[]string{"connection-dropped", "connection-limit"}},
	{"ECONNABORTED", "software caused connection abort", 103, 53, 10053,
		"This machine gave the connection up: what it said was never confirmed.",
		"Look at the way between: cable, switch, radio.", []string{"stalled", "packet-loss"}},
	{"EPIPE", "broken pipe", 32, 32, 0, "It was written to a connection that the other end has closed.",
		"The other end closes what is quiet, or after each answer: open it anew.", []string{"idle-close", "hangs-up"}},
	{"ENOTCONN", "transport endpoint is not connected", 107, 57, 10057, "It was written to what is not connected.",
		"Connect first; look why the connection before was lost.", []string{"connection-dropped"}},
	{"EADDRINUSE", "address already in use", 98, 48, 10048, "Another program has the port.",
		"End that program, or choose another port. After a restart wait a minute.", nil},
	{"EADDRNOTAVAIL", "cannot assign requested address", 99, 49, 10049, "This machine has not got that address.",
		"Give the address of one of its own network cards.", nil},
	{"EACCES", "permission denied", 13, 13, 10013, "It is not permitted.",
		"Ports below 1024 and serial ports need rights; a firewall on this machine answers so too.", nil},
	{"EAGAIN", "resource temporarily unavailable; would block", 11, 35, 10035, "Nothing has come yet.",
		"A program shows it where it does not wait long enough: give it a longer time limit.", []string{"late-answer"}},
	{"EMFILE", "too many open files", 24, 24, 10024, "The program has too many connections open.",
		"Have it close them: a connection for every question fills up.", []string{"connection-churn"}},
	{"ENOBUFS", "no buffer space available", 105, 55, 10055, "The system has no room for more.",
		"Too many connections or messages wait: ask less.", nil},
	{"ENETDOWN", "network is down", 100, 50, 10050, "The network card is down.", "Look at cable and card.", nil},
	{"ENOENT", "no such file or directory; cannot find the file", 2, 2, 2, "There is no such port or file.",
		"The adapter is not plugged in, or has another name now.", nil},
	{"EBUSY", "device or resource busy", 16, 16, 0, "Another program has the serial port.", "Close that program.", nil},
	{"EIO", "input/output error", 5, 5, 0, "The port failed while it was used.",
		"A serial adapter was unplugged, or its driver gave up: plug it in again.", nil},
	{"ENXIO", "no such device or address; device not configured", 6, 6, 0, "The device behind the port is gone.",
		"Plug the adapter in again, and compare the name of the port.", nil},
	{"ERROR_ACCESS_DENIED", "access is denied", 0, 0, 5, "A serial port is open in another program.",
		"Close that program: a port has one owner.", nil},
	{"ERROR_SEM_TIMEOUT", "the semaphore timeout period has expired", 0, 0, 121, "A serial adapter does not react.",
		"Unplug it and plug it in again; look for a newer driver.", nil},
	{"ERROR_OPERATION_ABORTED", "the I/O operation has been aborted", 0, 0, 995,
		"The adapter was taken away while it was used.", "Plug it in again; look at the power saving of its socket.", nil},
	{"ERROR_DEVICE_NOT_CONNECTED", "the device is not connected", 0, 0, 1167, "The adapter is gone.", "Plug it in again.",
		nil},
	{"EAI_NONAME", "name or service not known; no such host is known", -2, 8, 11001, "The name has no address.",
		"Compare how it is written, or give the address in numbers.", nil},
	{"EAI_AGAIN", "temporary failure in name resolution", -3, 2, 11002, "Nobody who knows names could be asked.",
		"Look at the network's name server, or give the address in numbers.", nil},
}

// coded is the ability of a protocol to list its error codes.
type coded interface{ Codes() []int }

// shows is the ability of a protocol whose codes are shown as more than one number.
type shows interface {
	// CodeShown is a code as boxes show it, and the numbers by which it is looked up.
	CodeShown(code int) (text string, numbers []int)
}

// All lists every entry: those of the protocols, then those of the systems.
func All() (list []Meaning) {
	defs := protocol.All()
	slices.SortStableFunc(defs, func(a, b *protocol.Def) int { // what is usual comes first
		return cmp.Compare(map[bool]int{true: 0, false: 1}[a.Usual], map[bool]int{true: 0, false: 1}[b.Usual])
	})
	for _, def := range defs {
		codes, ok := def.Rules.(coded)
		if !ok || def.MapOnly {
			continue
		}
		numbers := codes.Codes()
		slices.Sort(numbers)
		for _, n := range numbers {
			why := def.Decline(n)
			e := Meaning{Of: def.Title, Number: numberOf(n), Name: why.Title, Means: why.Means, Look: why.Causes}
			if of, ok := def.Rules.(shows); ok {
				e.Number, e.numbers = of.CodeShown(n)
			}
			if why.Finding != "" {
				e.Findings = []string{why.Finding}
			}
			// Protocols of one family have the same codes.
			same := slices.IndexFunc(list, func(o Meaning) bool { return o.Number == e.Number && o.Means == e.Means })
			if same >= 0 {
				if !strings.Contains(list[same].Of, def.Title) {
					list[same].Of += ", " + def.Title
				}
				continue
			}
			list = append(list, e)
		}
	}
	alerts := capture.Alerts()
	for _, n := range slices.Sorted(maps.Keys(alerts)) {
		list = append(list, Meaning{Of: "TLS", Number: numberOf(n), Name: alerts[n].Title, Means: alerts[n].Means,
			Look: alerts[n].Causes, Findings: []string{"tls-failed"}})
	}
	for _, s := range systems {
		for _, of := range []struct {
			name   string
			number int
		}{{"Linux", s.linux}, {"macOS and BSD", s.bsd}, {"Windows", s.wins}} {
			if of.number != 0 {
				list = append(list, Meaning{Of: of.name, Number: strconv.Itoa(of.number), Name: s.name + ": " + s.also,
					Means: s.means, Look: s.look, Findings: s.findings})
			}
		}
	}
	return append(list, ofFindings()...)
}

// numberOf writes a code as boxes show it: in decimal, and in hexadecimal from 10 on.
func numberOf(n int) string {
	if n < 10 {
		return strconv.Itoa(n)
	}
	return fmt.Sprintf("%d (0x%02X)", n, n)
}

// most bounds what is found.
const most = 60

// Find looks up a number, in decimal or hexadecimal, or words of what is shown. What has
// just that number comes first.
func Find(text string) []Meaning {
	text = strings.ToLower(strings.TrimSpace(text))
	found := []Meaning{}
	if text == "" {
		return found
	}
	type ranked struct {
		Meaning
		rank int
	}
	var list []ranked
	number, isNumber := parse(text)
	for _, e := range All() {
		switch n, _ := strconv.Atoi(strings.Fields(e.Number)[0]); {
		case isNumber && (slices.Contains(e.numbers, number) || e.numbers == nil && n == number):
			list = append(list, ranked{e, 0})
		case isNumber:
		case strings.HasPrefix(strings.ToLower(e.Name), text), slices.Contains(e.Findings, text):
			list = append(list, ranked{e, 1})
		case contains(e, strings.Fields(text)):
			list = append(list, ranked{e, 2})
		}
	}
	slices.SortStableFunc(list, func(a, b ranked) int { return cmp.Compare(a.rank, b.rank) })
	for _, e := range list[:min(len(list), most)] {
		found = append(found, e.Meaning)
	}
	return found
}

// parse reads a number as it is shown: 11, 0x0B, 0Bh, -2.
func parse(text string) (int, bool) {
	text = strings.TrimPrefix(text, "#")
	if hex, ok := strings.CutPrefix(text, "0x"); ok {
		n, err := strconv.ParseInt(hex, 16, 33)
		return int(n), err == nil
	}
	if hex, ok := strings.CutSuffix(text, "h"); ok {
		n, err := strconv.ParseInt(hex, 16, 33)
		return int(n), err == nil
	}
	n, err := strconv.Atoi(text)
	return n, err == nil
}

func contains(e Meaning, words []string) bool {
	all := strings.ToLower(e.Of + " " + e.Name + " " + e.Means)
	for _, w := range words {
		if !strings.Contains(all, w) {
			return false
		}
	}
	return true
}
