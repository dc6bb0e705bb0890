package test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"

	"yardbench/internal/demo"
)

// freePort is one that nothing listens on now.
func freePort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// Somebody signs in to the console with a passkey in place of their password; what
// nobody made, what was removed, and who has left, lets nobody in.
func TestPasskeys(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	w.kill() // it comes back at an address with a name: browsers have no passkeys for numbers
	port := freePort(t)
	w.address = fmt.Sprintf("http://127.0.0.1:%d", port)
	at := fmt.Sprintf("http://localhost:%d", port)
	w.more = append(w.more, "--public-address", at, "--port-address", fmt.Sprintf("http://*.ports.example:%d", port))
	w.start()
	p := openPage(t)
	// The page comes anew as she signs out: what is pressed before that is pressed in vain.
	out := chromedp.Steps(chromedp.Func(func(ctx context.Context, x *chromedp.Target) error {
		_, err := chromedp.Evaluate[any]("window.before = true; 0")(ctx, x)
		return err
	}), button("Sign out"), holds(`!window.before && !!document.querySelector("#password")`))
	p.do("with a device that keeps passkeys", chromedp.Func(func(ctx context.Context, x *chromedp.Target) error {
		if _, err := cdp.Call(ctx, x, webauthn.Enable, webauthn.EnableParams{}); err != nil {
			return err
		}
		_, err := cdp.Call(ctx, x, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{Options: &webauthn.VirtualAuthenticatorOptions{Protocol: webauthn.AuthenticatorProtocolCtap2, Ctap2version: webauthn.Ctap2versionCtap21,
			Transport: webauthn.AuthenticatorTransportInternal, HasResidentKey: true, HasUserVerification: true, IsUserVerified: true, AutomaticPresenceSimulation: true}})
		return err
	}))
	p.do("nobody has one yet", chromedp.Navigate(at), button("Sign in with a passkey"), p.says("The browser has shown no passkey"))
	p.do("sign in by a password", chromedp.SendKeys(chromedp.CSS("#name"), "ingrid"), chromedp.SendKeys(chromedp.CSS("#password"), demo.Password+"\r"), seen("nav a"))
	name := func(password string) chromedp.Action[chromedp.Void] {
		return chromedp.Steps(button("Add a passkey"), seen("#name"), still("#name"), chromedp.SendKeys(chromedp.CSS("#name"), "my laptop"), chromedp.SendKeys(chromedp.CSS("#password"), password), modal())
	}
	p.do("whoever finds a console open makes none", chromedp.Navigate(at+"/you"), name("not hers"), p.says("the password is another"))
	p.do("she does", chromedp.Navigate(at+"/you"), name(demo.Password), gone("Your password"), p.says("my laptop"), p.says("never"))
	p.do("and signs in with it", out, button("Sign in with a passkey"), seen("nav a"), p.says("Ingrid Solheim"), chromedp.Navigate(at+"/you"), p.says("my laptop"), gone("never"))

	// An answer counts once, for whoever was asked.
	post := func(path, body string) (int, string) {
		t.Helper()
		res, err := http.Post(w.address+"/api/v1"+path, "application/json", bytes.NewReader([]byte(body)))
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		if err != nil {
			t.Fatal(err)
		}
		return res.StatusCode, string(text)
	}
	p.do("an answer is made", chromedp.Func(func(ctx context.Context, x *chromedp.Target) error {
		_, err := chromedp.Evaluate[any](`(async () => {
		const q = await (await fetch("/api/v1/sign-in-questions", {method: "POST"})).json();
		const c = await navigator.credentials.get({publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(JSON.parse(q.options))});
		window.answered = JSON.stringify({kept: q.kept, answer: JSON.stringify(c.toJSON())});
	})(); 0`)(ctx, x)
		return err
	}), holds(`!!window.answered`))
	answer, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("window.answered"))
	if err != nil {
		t.Fatal(err)
	}
	if code, text := post("/passkey-sign-ins", answer); code != 200 {
		t.Fatalf("the answer is %d: %s", code, text)
	}
	if code, text := post("/passkey-sign-ins", answer); code != 401 {
		t.Errorf("the same again is %d: %s", code, text)
	}
	for _, bad := range []string{`{"kept":"x","answer":"{}"}`, `{"kept":"","answer":""}`} {
		if code, text := post("/passkey-sign-ins", bad); code != 401 {
			t.Errorf("%s is %d: %s", bad, code, text)
		}
	}
	// A passkey that was removed lets nobody in, nor whoever has left.
	p.do("a device has one of hers, and makes no other", name(demo.Password), seen(".ant-modal-container .ant-alert, .ant-modal-container [role=alert]"))
	w.must(w.as("astrid", "", "person", "close", "ingrid", "--yes"), 0)
	p.do("who has left is not let in", chromedp.Navigate(at), button("Sign in with a passkey"), p.says("this passkey lets nobody in"))
	w.must(w.as("astrid", "", "person", "open", "ingrid"), 0)
	p.do("who is back is", chromedp.Navigate(at), button("Sign in with a passkey"), seen("nav a"))
	p.do("removed", chromedp.Navigate(at+"/you"), clicked(`//button[@aria-label="Remove the passkey my laptop"]`), modal(), gone("my laptop"), out, button("Sign in with a passkey"), p.says("this passkey lets nobody in"))
	w.must(w.as("astrid", "", "journal", "list"), 0, "passkey.made", "passkey.removed")
}
