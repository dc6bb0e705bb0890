package test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

// The command line, the console and what the service writes tell one time in one zone, the
// house's, wherever they run; a reader may have their own in the console.
func TestOneZoneEverywhere(t *testing.T) {
	w := simWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board"), 0, "is ready")
	w.must(w.as("ingrid", "", "hold", "tide-board", "2h", "--why", "the clocks are looked at"), 0)
	oslo, err := time.LoadLocation("Europe/Oslo") // the demo's house is there
	if err != nil {
		t.Fatal(err)
	}
	since := w.until(w.client("ingrid"), "tide-board", 10*time.Second, inPhase("ready")).PhaseAt
	t.Setenv("TZ", "")
	there, tokyo := since.In(oslo).Format("15:04"), since.In(time.FixedZone("", 9*3600)).Format("15:04")
	if out := w.must(w.as("ingrid", "", "show", "tide-board"), 0, "ready, held, since today "+there+" CE", "not put to rest before "); strings.Contains(out, tokyo) || !strings.Contains(out, "before "+since.Add(2*time.Hour).In(oslo).Format("15:")) && !strings.Contains(out, "before "+since.Add(2*time.Hour+time.Minute).In(oslo).Format("15:")) {
		t.Errorf("it says\n%s", out)
	}
	p := w.page(t, "ingrid")
	elsewhere := chromedp.Func(func(ctx context.Context, x *chromedp.Target) error {
		_, err := cdp.Call(ctx, x, emulation.SetTimezoneOverride, emulation.SetTimezoneOverrideParams{TimezoneID: "Asia/Tokyo"})
		return err
	})
	p.do("a browser in another zone", elsewhere, chromedp.Navigate(w.address+"/workspaces/tide-board"), p.says("Times are those of the house: Europe/Oslo"), p.says(there))
	p.do("times of here", button("Tell them in Asia/Tokyo"), p.says("Times are those of Asia/Tokyo, your zone"), p.says(tokyo))
	p.do("kept", chromedp.Reload(), p.says("Times are those of Asia/Tokyo, your zone"), p.says(tokyo))
	p.do("and back", button("Tell them in Europe/Oslo"), p.says("Times are those of the house: Europe/Oslo"), p.says(there))
}
