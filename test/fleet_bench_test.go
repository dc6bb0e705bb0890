package test

import (
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"yardbench/internal/browser"
	"yardbench/internal/demo"
	"yardbench/wire"
)

// BenchmarkFleetPage: the fleet of ten thousand in the console: from a key to the list
// that is painted, and what becomes of its frames while sixty of its rows change a
// second. A frame counts as dropped where the next comes later than one and a half of
// its sixtieth of a second.
func BenchmarkFleetPage(b *testing.B) {
	const rows, rate, seconds = 10_000, 60, 5
	w := simWorld(b)
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", "first"), 0)
	w.kill()
	w.multiply("first", rows)
	w.start()
	w.rest()
	ctx, end := browser.Open(b.Context(), 10*time.Minute)
	defer end()
	run := func(js string) float64 {
		b.Helper()
		v, err := chromedp.Run(ctx, chromedp.Evaluate[float64](js, chromedp.EvalAwaitPromise))
		if err != nil {
			b.Fatal(err)
		}
		return v
	}
	if err := chromedp.Do(ctx, browser.Size(), chromedp.Navigate(w.address), seen("#name"), chromedp.SendKeys(chromedp.CSS("#name"), "astrid"), chromedp.SendKeys(chromedp.CSS("#password"), demo.Password+"\r"), seen("nav a"),
		chromedp.Navigate(w.address+"/fleet"), seen(fmt.Sprintf(`[data-shown="%d"]`, rows)), chromedp.Sleep(2*time.Second)); err != nil {
		b.Fatal(err)
	}
	const page = `const frame = () => new Promise((r) => requestAnimationFrame(r)), shown = () => document.querySelector("[data-shown]").dataset.shown, field = document.querySelector('input[aria-label="Find"]');
		const put = Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set, pause = (ms) => new Promise((r) => setTimeout(r, ms));
		const key = async (text) => { const before = shown(), began = performance.now(); put.call(field, text); field.dispatchEvent(new Event("input", { bubbles: true })); while (shown() === before && performance.now() - began < 5000) await frame(); await frame(); return performance.now() - began };`
	keys := run(`(async () => { ` + page + ` const all = []; for (let n = 0; n < 6; n++) { for (const t of ["w1", "w12", "w123", "w12", "w1", ""]) { all.push(await key(t)); await pause(500) } } all.sort((a, b) => a - b); return all[Math.floor(all.length * 19 / 20)] })()`)

	c := w.client("astrid")
	stop := make(chan struct{})
	done := make(chan int)
	go func() {
		n := 0
		tick := time.NewTicker(time.Second / rate)
		defer tick.Stop()
		for {
			select {
			case <-stop:
				done <- n
				return
			case <-tick.C:
			}
			ref := fmt.Sprintf("w%d", n%300)
			var err error
			if n/300%2 == 0 {
				_, err = c.Workspaces.Hold(b.Context(), ref, wire.Hold{Seconds: 3600, Why: "a long test runs"})
			} else {
				err = c.Workspaces.EndHold(b.Context(), ref)
			}
			if err == nil {
				n++
			}
		}
	}()
	run(`(async () => { window.gaps = []; let last = 0, on = true; const look = (t) => { if (last) window.gaps.push(t - last); last = t; if (on) requestAnimationFrame(look) }; requestAnimationFrame(look); await new Promise((r) => setTimeout(r, ` + fmt.Sprint(seconds*1000) + `)); on = false; return 0 })()`)
	close(stop)
	changed := <-done
	dropped := run(`window.gaps.filter((g) => g > 25).length`)
	worst := run(`Math.max(...window.gaps)`)
	frames := run(`window.gaps.length`)
	b.ReportMetric(keys, "ms/key-19-of-20")
	b.ReportMetric(dropped, "frames-dropped")
	b.ReportMetric(worst, "ms/worst-frame")
	b.ReportMetric(frames/seconds, "frames/s")
	b.ReportMetric(float64(changed)/seconds, "changes/s")
	b.ReportMetric(0, "ns/op")
	if keys > 50 {
		b.Errorf("from a key to the list takes %.0f ms; 50 are promised", keys)
	}
}
