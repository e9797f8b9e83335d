// Package pagetest opens pages in a real browser, for tests.
package pagetest

import (
	"context"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// Tab is a page that is open in a browser.
type Tab struct {
	t   *testing.T
	ctx context.Context

	mu       sync.Mutex
	wrong    []string // what the console reports
	requests []string
}

// Open opens a file in a browser window of 1280x800. Where no browser is installed, the test is skipped.
func Open(t *testing.T, file, part string) *Tab {
	t.Helper()
	var program string
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if path, err := exec.LookPath(name); err == nil && program == "" {
			program = path
		}
	}
	if program == "" {
		t.Skip("SKIPPED: there is no browser: apt-get install chromium")
	}
	path, err := filepath.Abs(file)
	require.NoError(t, err)
	options := slices.Clone(chromedp.DefaultExecAllocatorOptions[:])
	options = append(options, chromedp.ExecPath(program), chromedp.NoSandbox, chromedp.UserDataDir(t.TempDir()),
		chromedp.WindowSize(1280, 800))
	ctx, end := context.WithTimeout(t.Context(), 2*time.Minute)
	t.Cleanup(end)
	ctx, end = chromedp.NewExecAllocator(ctx, options...)
	t.Cleanup(end)
	ctx, end = chromedp.NewContext(ctx)
	t.Cleanup(end)
	tab := &Tab{t: t, ctx: ctx}
	require.NoError(t, chromedp.Listen(ctx, tab.note))
	_, err = chromedp.Call(ctx, network.Enable, network.EnableParams{})
	require.NoError(t, err)
	tab.Do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate("file://"+path+part))
	return tab
}

// note keeps what the browser reports.
func (tab *Tab) note(event any) {
	tab.mu.Lock()
	defer tab.mu.Unlock()
	switch e := event.(type) {
	case *runtime.EventExceptionThrown:
		tab.wrong = append(tab.wrong, e.ExceptionDetails.Text)
	case *runtime.EventConsoleAPICalled:
		tab.wrong = append(tab.wrong, string(e.Type))
	case *log.EventEntryAdded:
		tab.wrong = append(tab.wrong, e.Entry.Text)
	case *network.EventRequestWillBeSent:
		tab.requests = append(tab.requests, e.Request.URL)
	}
}

// Wrong is what the console reported, and Requests what was asked for.
func (tab *Tab) Wrong() []string {
	tab.mu.Lock()
	defer tab.mu.Unlock()
	return tab.wrong
}

// Requests are the addresses that the page asked for, itself first.
func (tab *Tab) Requests() []string {
	tab.mu.Lock()
	defer tab.mu.Unlock()
	return tab.requests
}

// Do does something in the page.
func (tab *Tab) Do(steps ...chromedp.Action[chromedp.Void]) {
	tab.t.Helper()
	require.NoError(tab.t, chromedp.Do(tab.ctx, steps...))
}

// Is evaluates JavaScript.
func Is[T any](tab *Tab, script string) T {
	tab.t.Helper()
	v, err := chromedp.Run(tab.ctx, chromedp.Evaluate[T](script))
	require.NoError(tab.t, err, script)
	return v
}

// Dark lets the page know that the reader prefers dark colours.
func (tab *Tab) Dark() {
	tab.t.Helper()
	_, err := chromedp.Call(tab.ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
		Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: "dark"}}})
	require.NoError(tab.t, err)
}

// Picture is what the window shows, as PNG.
func (tab *Tab) Picture() []byte {
	tab.t.Helper()
	png, err := chromedp.Run(tab.ctx, chromedp.CaptureScreenshot())
	require.NoError(tab.t, err)
	return png
}

// Print is the page as it is printed, as PDF.
func (tab *Tab) Print() []byte {
	tab.t.Helper()
	pdf, err := chromedp.Run(tab.ctx, chromedp.PrintToPDF())
	require.NoError(tab.t, err)
	return pdf
}
