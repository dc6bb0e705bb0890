// Package browser opens a headless Chromium for the tests and pictures of the
// console. The product itself does not use it.
package browser

import (
	"context"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
)

// Find gives the path of a Chromium, or "" where there is none.
func Find() string {
	for _, name := range []string{"chromium", "chromium-browser"} {
		if p, err := exec.LookPath(name); err == nil {
			return p
		}
	}
	return ""
}

// Size makes the page 1280 by 800, whatever the window is.
func Size() chromedp.Action[chromedp.Void] { return chromedp.EmulateViewport(1280, 800) }

// TypeLine types a line into what has the focus, and Enter. A terminal emulator
// takes chromedp's own key events twice: as keys and as characters.
func TypeLine(line string) chromedp.Action[chromedp.Void] {
	return chromedp.Steps(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, input.InsertText, input.InsertTextParams{Text: line})
		return err
	}), Enter())
}

// Enter presses Enter, once.
func Enter() chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for _, kind := range []input.DispatchKeyEventType{input.DispatchKeyEventTypeRawKeyDown, input.DispatchKeyEventTypeKeyUp} {
			enter := input.DispatchKeyEventParams{Type: kind, Key: "Enter", Code: "Enter", WindowsVirtualKeyCode: 13, NativeVirtualKeyCode: 13}
			if _, err := cdp.Call(ctx, t, input.DispatchKeyEvent, enter); err != nil {
				return err
			}
		}
		return nil
	})
}

// Open opens a page of 1280 by 800 in a fresh profile. The browser ends with
// the returned function, or after limit.
func Open(ctx context.Context, limit time.Duration) (context.Context, context.CancelFunc) {
	ctx, cancelLimit := context.WithTimeout(ctx, limit)
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(Find()), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("force-color-profile", "srgb"),
		chromedp.WindowSize(1280, 800))
	allocator, cancelAllocator := chromedp.NewExecAllocator(ctx, options...)
	page, cancelPage := chromedp.NewContext(allocator)
	return page, func() { cancelPage(); cancelAllocator(); cancelLimit() }
}

// Key presses a key, with modifiers: 1 for Alt, 2 for Control, 8 for Shift, added up.
func Key(name, code string, modifiers int64) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		number := int64(0)
		if len(name) == 1 {
			number = int64(strings.ToUpper(name)[0])
		} else if name == "Escape" {
			number = 27
		} else if n, ok := strings.CutPrefix(name, "F"); ok {
			f, _ := strconv.Atoi(n)
			number = 111 + int64(f)
		}
		for _, kind := range []input.DispatchKeyEventType{input.DispatchKeyEventTypeRawKeyDown, input.DispatchKeyEventTypeKeyUp} {
			event := input.DispatchKeyEventParams{Type: kind, Key: name, Code: code, Modifiers: modifiers, WindowsVirtualKeyCode: number, NativeVirtualKeyCode: number}
			if _, err := cdp.Call(ctx, t, input.DispatchKeyEvent, event); err != nil {
				return err
			}
		}
		return nil
	})
}
