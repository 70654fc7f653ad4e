// Package e2e drives the real binary, its bench and its front end in headless
// Chromium, as a technician would.
package e2e

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// patience is how long a page may take for anything, on a machine that has other things to do as well.
const patience = 40 * time.Second

// binary is the ferry under test: that of FERRY_BIN, or bin/ferry.
func binary(t testing.TB) string {
	path := os.Getenv("FERRY_BIN")
	if path == "" {
		path = "../bin/ferry"
	}
	abs, err := filepath.Abs(path)
	if err == nil {
		_, err = os.Stat(abs)
	}
	if err != nil {
		t.Fatalf("no ferry to test: %v. Build it with make build.", err)
	}
	return abs
}

// ferry is a running process of the binary.
type ferry struct {
	url string
	cmd *exec.Cmd
	dir string
	// fingerprint of the certificate, where it has one.
	fingerprint chan string
}

var shown = regexp.MustCompile(`at (https?://[0-9.:]+)`)

// start runs a command that serves, on a free port and the given data folder.
func start(t testing.TB, command, dir string, more ...string) *ferry {
	t.Helper()
	cmd := exec.Command(binary(t), append([]string{command, "--listen", "127.0.0.1:0", "--data", dir}, more...)...)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	f := &ferry{cmd: cmd, dir: dir, fingerprint: make(chan string, 1)}
	t.Cleanup(func() { f.kill() })
	line := make(chan string, 1)
	go func() {
		s := bufio.NewScanner(out)
		for s.Scan() {
			if _, print, ok := strings.Cut(s.Text(), "fingerprint "); ok {
				f.fingerprint <- print
				continue
			}
			line <- s.Text()
		}
	}()
	select {
	case text := <-line:
		m := shown.FindStringSubmatch(text)
		if m == nil {
			t.Fatalf("ferry said %q", text)
		}
		f.url = m[1]
	case <-time.After(patience):
		t.Fatal("ferry did not start")
	}
	return f
}

// kill ends the process as a power cut would.
func (f *ferry) kill() {
	if f.cmd.ProcessState == nil {
		_ = f.cmd.Process.Signal(syscall.SIGKILL)
		_ = f.cmd.Wait()
	}
}

// browser is one window on a ferry.
type browser struct {
	t   testing.TB
	ctx context.Context
	url string

	mu     sync.Mutex
	errors []string // what the console complained about
}

var chromium = sync.OnceValues(func() (context.Context, error) {
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-dev-shm-usage", true),
		chromedp.Flag("hide-scrollbars", true),
		chromedp.Flag("ignore-certificate-errors", true)) // those that Ferry makes itself
	for _, name := range []string{"chromium", "chromium-browser"} {
		if path, err := exec.LookPath(name); err == nil {
			options = append(options, chromedp.ExecPath(path))
			break
		}
	}
	allocator, _ := chromedp.NewExecAllocator(context.Background(), options...)
	first, _ := chromedp.NewContext(allocator)
	return first, chromedp.Do(first)
})

func TestMain(m *testing.M) {
	code := m.Run()
	if ctx, err := chromium(); err == nil {
		_ = chromedp.Cancel(ctx)
	}
	os.Exit(code)
}

// open opens a window at a path.
func (f *ferry) open(t testing.TB, path string) *browser {
	t.Helper()
	first, err := chromium()
	if err != nil {
		t.Fatalf("Chromium does not start: %v", err)
	}
	b := &browser{t: t, url: f.url}
	ctx, cancel := chromedp.NewContext(first, chromedp.WithNewBrowserContext(), chromedp.WithListener(func(event any) {
		if e, ok := event.(*runtime.EventExceptionThrown); ok {
			b.mu.Lock()
			b.errors = append(b.errors, fmt.Sprintf("%+v", e.ExceptionDetails))
			b.mu.Unlock()
		}
	}))
	b.ctx = ctx
	t.Cleanup(cancel)
	t.Cleanup(func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		for _, text := range b.errors {
			t.Errorf("the page threw: %s", text)
		}
	})
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		t.Fatal(err)
	}
	// Of several pages at once each believes that it has the keys.
	b.run(command(emulation.SetFocusEmulationEnabled, emulation.SetFocusEmulationEnabledParams{Enabled: true}))
	// FERRY_SLOW=4 has the page take four times as long for everything, as on a busy machine.
	if slow, err := strconv.ParseFloat(os.Getenv("FERRY_SLOW"), 64); err == nil {
		b.run(command(emulation.SetCPUThrottlingRate, emulation.SetCPUThrottlingRateParams{Rate: slow}))
	}
	if len(f.fingerprint) > 0 { // it asks first who is there
		b.run(chromedp.Navigate(b.url+path), chromedp.WaitVisible(chromedp.CSS("form[aria-label='Sign in']")))
		return b
	}
	b.to(path)
	return b
}

// command has the browser do something that has no action of its own.
func command[P, R any](what cdp.Command[P, R], with P) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, page *chromedp.Target) error {
		_, err := cdp.Call(ctx, page, what, with)
		return err
	})
}

// run carries out actions within a limit, and shows the page if they fail.
func (b *browser) run(actions ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	if err := chromedp.Do(ctx, actions...); err != nil {
		b.fail(err)
	}
}

func (b *browser) fail(err error) {
	b.t.Helper()
	shown, cancel := context.WithTimeout(b.ctx, 5*time.Second)
	defer cancel()
	path, _ := chromedp.Run(shown, chromedp.Location())
	text, _ := chromedp.Run(shown,
		chromedp.Evaluate[string](`(t => t.length < 2000 ? t : t.slice(0, 500) + "\n…\n" + t.slice(-1500))(document.body.innerText)`))
	b.t.Fatalf("%v\nat %s the page shows:\n%s", err, path, text)
}

func (b *browser) to(path string) {
	b.t.Helper()
	b.run(chromedp.Navigate(b.url+path), chromedp.WaitVisible(chromedp.CSS("header nav")))
	b.until("the site is read", `!document.querySelector("header").innerText.includes("reading the site")`)
}

func quoteXPath(text string) string {
	if !strings.Contains(text, `"`) {
		return `"` + text + `"`
	}
	return `'` + text + `'`
}

// press clicks the button or link with a text.
func (b *browser) press(text string) {
	b.t.Helper()
	path := fmt.Sprintf(`(//button[not(@disabled)] | //a | //*[@role="menuitem"])[contains(normalize-space(.), %s)]`,
		quoteXPath(text))
	b.settle(path)
	b.hit(chromedp.Click(path))
}

// hit clicks, again where what was found was put anew before it could be hit.
func (b *browser) hit(click chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	for {
		err := chromedp.Do(ctx, click)
		if err == nil {
			return
		}
		if !strings.Contains(err.Error(), "Could not find node with given id") {
			b.fail(err)
		}
	}
}

// settle waits for what a path finds to stand still: what is read meanwhile may move it
// from under a click.
func (b *browser) settle(path string) {
	b.t.Helper()
	where := fmt.Sprintf(`(() => {
		const e = document.evaluate(%q, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE, null).singleNodeValue;
		const r = e?.getBoundingClientRect();
		return r ? [r.x, r.y, r.width].join() : "";
	})()`, path)
	was, still := "", 0
	for range 40 {
		is := js[string](b, where)
		if is != was {
			was, still = is, 0
		} else if still++; is != "" && still == 2 {
			return
		}
		time.Sleep(30 * time.Millisecond)
	}
}

func (b *browser) click(css string) {
	b.t.Helper()
	b.hit(chromedp.Click(chromedp.CSS(css)))
}

// sees waits until a text is on the page.
func (b *browser) sees(text string) {
	b.t.Helper()
	b.until("the page shows "+text, fmt.Sprintf(`document.body.innerText.includes(%q)`, text))
}

// until waits until a JavaScript expression is true.
func (b *browser) until(what, expression string) {
	b.t.Helper()
	deadline := time.Now().Add(patience)
	for {
		ctx, cancel := context.WithTimeout(b.ctx, 10*time.Second)
		ok, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("!!("+expression+")"))
		cancel()
		if err == nil && ok {
			return
		}
		if time.Now().After(deadline) {
			b.fail(fmt.Errorf("not within %v: %s (%v)", patience, what, err))
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// js evaluates an expression.
func js[T any](b *browser, expression string) T {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	result, err := chromedp.Run(ctx, chromedp.Evaluate[T](expression))
	if err != nil {
		b.fail(err)
	}
	return result
}

// does carries out a statement in the page.
func (b *browser) does(statement string) {
	b.t.Helper()
	js[bool](b, "(() => { "+statement+"; return true; })()")
}

// fill replaces what an input, named by its label, holds.
func (b *browser) fill(label, text string) {
	b.t.Helper()
	css := b.labelled(label)
	// A page that has just been opened may put another input in its place: nobody types so
	// soon.
	for same := false; !same; {
		b.does(fmt.Sprintf(`window.filled = document.querySelector(%q)`, css))
		time.Sleep(100 * time.Millisecond)
		same = js[bool](b, fmt.Sprintf(`window.filled === document.querySelector(%q)`, css))
	}
	b.run(chromedp.Focus(chromedp.CSS(css)))
	b.does(fmt.Sprintf(`document.querySelector(%q).select()`, css))
	b.run(chromedp.KeyEvent(kb.Delete), chromedp.SendKeys(chromedp.CSS(css), text))
}

// choose picks an option, by its value, of a select that is named by its label.
func (b *browser) choose(label, option string) {
	b.t.Helper()
	css := b.labelled(label)
	b.until(label+" offers "+option,
		fmt.Sprintf(`[...document.querySelector(%q).options].some(o => o.value === %q)`, css, option))
	b.pick(css, option)
}

// labelled returns a selector for the control with a label.
func (b *browser) labelled(label string) string {
	b.t.Helper()
	find := fmt.Sprintf(`(() => {
		const named = document.querySelector('[aria-label="%[1]s"]');
		if (named) return '[aria-label="%[1]s"]';
		const l = [...document.querySelectorAll("label")].find(l => l.textContent.trim() === %[1]q || l.textContent.trim().startsWith(%[1]q + ","));
		return l && l.htmlFor ? '#' + CSS.escape(l.htmlFor) : "";
	})()`, label)
	b.until("there is a control named "+label, find)
	return js[string](b, find)
}

// slowed has what the page asks of Ferry under a path that ends so take half a second longer, from now on.
func (b *browser) slowed(path string) {
	b.t.Helper()
	b.does(fmt.Sprintf(`const quick = window.fetch; window.fetch = async (of, how) => {
		if (new URL(of, location.href).pathname.endsWith(%q)) await new Promise(r => setTimeout(r, 500));
		return quick(of, how);
	}`, path))
}

func (b *browser) keys(keys ...string) {
	b.t.Helper()
	for _, key := range keys {
		b.run(chromedp.KeyEvent(key))
	}
}

// ctrl presses a key with Ctrl.
func (b *browser) ctrl(key string) {
	b.t.Helper()
	b.run(chromedp.KeyEvent(key, chromedp.KeyModifiers(chromedp.ModifierCtrl)))
}

// find looks for something with Ctrl K and takes the first that has the words.
func (b *browser) find(text string) {
	b.t.Helper()
	b.ctrl("k")
	b.until("the search is open", `document.activeElement.placeholder?.startsWith("A device")`)
	b.keys(text)
	b.until(text+" is found",
		fmt.Sprintf(`document.querySelector('[cmdk-item][data-selected="true"]')?.innerText.toLowerCase().includes(%q)`,
			strings.ToLower(text)))
	b.keys(kb.Enter)
}

// key presses a key, with Shift if it is to extend a selection.
func key(name string, shift bool) chromedp.Action[chromedp.Void] {
	if shift {
		return chromedp.KeyEvent(name, chromedp.KeyModifiers(chromedp.ModifierShift))
	}
	return chromedp.KeyEvent(name)
}

// paste gives a text to whatever has the focus, as the clipboard would.
func (b *browser) paste(text string) {
	b.t.Helper()
	b.does(fmt.Sprintf(`const d = new DataTransfer(); d.setData("text/plain", %q);
		document.activeElement.dispatchEvent(new ClipboardEvent("paste", { clipboardData: d, bubbles: true, cancelable: true }))`, text))
}

// fault switches a fault of the bench, through the interface it has for that.
func (b *browser) fault(device, kind string) {
	b.t.Helper()
	b.until("fault of "+device, fmt.Sprintf(`document.querySelector('[data-fault-of="%s"]')`, device))
	b.pick(fmt.Sprintf(`[data-fault-of="%s"]`, device), kind)
}

// pick sets a select as a user does, so that the page hears of it.
func (b *browser) pick(css, option string) {
	b.t.Helper()
	b.does(fmt.Sprintf(`const s = document.querySelector(%q); s.focus();
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, %q);
		s.dispatchEvent(new Event("change", { bubbles: true }))`, css, option))
}

// shot keeps a picture of the page.
func (b *browser) shot(path string) {
	b.t.Helper()
	png, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	if err != nil {
		b.fail(err)
	}
	if err := os.WriteFile(path, png, 0o644); err != nil {
		b.t.Fatal(err)
	}
}

// fetch gets a path without a browser.
func (f *ferry) fetch(t testing.TB, path string) *http.Response {
	t.Helper()
	response, err := http.Get(f.url + path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = response.Body.Close() })
	return response
}
