package e2e

import (
	"compress/gzip"
	"io"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// TestFigures prints what the first screen takes and how much JavaScript is
// sent. The size is held by the test; the time only printed, for it belongs to
// the machine. It runs as part of make bench.
func TestFigures(t *testing.T) {
	f := start(t, "demo", t.TempDir())
	page, err := io.ReadAll(f.fetch(t, "/").Body)
	if err != nil {
		t.Fatal(err)
	}
	total := 0
	for _, m := range regexp.MustCompile(`(?:src|href)="(/assets/[^"]+\.js)"`).FindAllStringSubmatch(string(page), -1) {
		request, err := http.NewRequest(http.MethodGet, f.url+m[1], nil)
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("Accept-Encoding", "gzip")
		response, err := http.DefaultTransport.RoundTrip(request)
		if err != nil {
			t.Fatal(err)
		}
		body, err := io.ReadAll(response.Body)
		_ = response.Body.Close()
		if err != nil || response.Header.Get("Content-Encoding") != "gzip" {
			t.Fatalf("%s is sent as %q, %v", m[1], response.Header.Get("Content-Encoding"), err)
		}
		if _, err := gzip.NewReader(strings.NewReader(string(body))); err != nil {
			t.Fatal(err)
		}
		total += len(body)
	}
	t.Logf("figure: JavaScript sent, compressed: %.1f kB (promised: under 350 kB)", float64(total)/1000)
	if total == 0 || total > 350_000 {
		t.Errorf("%d octets of JavaScript", total)
	}
	if os.Getenv("FERRY_FIGURES") == "" {
		return
	}
	b := f.open(t, "/lines") // warms the browser up, not its cache: each window has its own
	for range 3 {
		w := f.open(t, "/checkout")
		begin := time.Now()
		w.run(chromedp.Navigate(f.url + "/lines"))
		w.until("the devices are drawn", `document.querySelectorAll("[data-device]").length === 8`)
		ms := js[float64](w, `performance.getEntriesByName("first-contentful-paint")[0]?.startTime ?? 0`)
		t.Logf("figure: first screen with demo data: %.0f ms to the drawn devices, first paint at %.0f ms (promised: under 1 s)", float64(time.Since(begin))/1e6, ms)
	}
	_ = b
}
