package console

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/certs"
	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
	"nexocumula/internal/kinds"
	"nexocumula/internal/service"
	"nexocumula/internal/sim"
	"nexocumula/internal/store/engine"
	"nexocumula/test/browser"
)

// central returns one that others could reach, with a series of each of two sites.
func central(t *testing.T) (s *service.Service, address string) {
	t.Helper()
	dir := t.TempDir()
	settings, err := config.Parse("central.yaml",
		[]byte("data: "+filepath.Join(dir, "data")+"\nlisten: 0.0.0.0:0\ntls: { self_signed: true }\ncentral: { accept: [] }\n"),
		kinds.All)
	require.NoError(t, err)
	s, err = service.Open(settings, "test", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	ids, err := s.Store.Define(t.Context(), []series.Definition{
		{
			Path:     "stony-beck/raceway-1/oxygen",
			Kind:     series.Gauge,
			Unit:     "mg/l",
			FreshFor: time.Minute,
		}, {Path: "long-mere/buoy-1/oxygen", Kind: series.Gauge, Unit: "mg/l", FreshFor: time.Minute},
	})
	require.NoError(t, err)
	rows := column.New(1, 1)
	rows.Add(time.Now().UnixNano(), 7.5)
	require.NoError(t, s.Store.Append(t.Context(), engine.Batch{Entries: []engine.Entry{
		{Series: ids[0], Tier: series.Readings, Rows: rows},
		{Series: ids[1], Tier: series.Readings, Rows: rows},
	}}))
	run(t, s)
	_, port, err := net.SplitHostPort(strings.TrimPrefix(s.Address, "https://"))
	require.NoError(t, err)
	return s, "https://localhost:" + port
}

// serve runs a service until the test ends.
func serve(t *testing.T, settings config.Settings) *service.Service {
	t.Helper()
	s, err := service.Open(settings, "test", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	run(t, s)
	return s
}

func run(t *testing.T, s *service.Service) {
	ctx, stop := context.WithCancel(context.Background())
	stopped := make(chan error, 1)
	go func() { stopped <- s.Run(ctx) }()
	t.Cleanup(func() {
		stop()
		assert.NoError(t, <-stopped)
	})
}

// keyOf returns the SHA-256 of the public key that a service shows.
func keyOf(t *testing.T, address string) string {
	t.Helper()
	conn, err := tls.Dial("tcp", strings.TrimPrefix(address, "https://"), &tls.Config{InsecureSkipVerify: true})
	require.NoError(t, err)
	defer conn.Close()
	der, err := x509.MarshalPKIXPublicKey(conn.ConnectionState().PeerCertificates[0].PublicKey)
	require.NoError(t, err)
	sum := sha256.Sum256(der)
	return base64.StdEncoding.EncodeToString(sum[:])
}

// click presses the last button, or follows the last link, that says just this.
func (p page) click(name string) {
	p.t.Helper()
	p.until(fmt.Sprintf(`((b) => b && !b.disabled && (b.click(), true))([...document.querySelectorAll("button, a")].filter((b) => b.innerText.trim() === %q).at(-1))`,
		name))
}

func (p page) says(text string) {
	p.t.Helper()
	p.until(fmt.Sprintf(`document.body.innerText.includes(%q)`, text))
}

// arrives waits for a page that says something, while another goes away.
func (p page) arrives(text string) {
	p.t.Helper()
	var there string
	for deadline := time.Now().Add(time.Minute); !strings.Contains(there, text); time.Sleep(100 * time.Millisecond) {
		require.True(p.t, time.Now().Before(deadline), "waited in vain for %q; there is: %s", text, there)
		if now, err := chromedp.Run(p.tab, chromedp.Evaluate[string](`document.body?.innerText ?? ""`)); err == nil {
			there = now
		}
	}
}

func (p page) open(address string) {
	p.t.Helper()
	p.do(chromedp.Navigate(address))
}

const words = "four words of trout"

func (p page) login(account, password string) {
	p.t.Helper()
	p.fill("[name=account]", account)
	p.fill("[name=password]", password)
	p.click("Log in")
}

// From the first administrator to what a viewer of one site may see, in a browser.
func TestTheConsoleIsForThoseItIsFor(t *testing.T) {
	s, address := central(t)
	code, err := s.FirstCode()
	require.NoError(t, err)
	tab, closeTab, err := browser.Open(t.Context(), t.TempDir(), browser.Trusting(keyOf(t, address)))
	require.NoError(t, err)
	defer closeTab()
	p := page{t, tab}
	require.NoError(t, chromedp.Do(tab, browser.Size(1280, 800))) // begins the browser, which lives as long as tab

	p.open(address + "/links")
	p.says("The first administrator")
	p.fill("[name=code]", code)
	p.fill("[name=account]", "warden")
	p.fill("[name=password]", words)
	p.fill("[name=again]", "other words of trout")
	p.click("Make the account")
	p.says("The two passwords are not the same.")
	p.fill("[name=again]", words)
	p.click("Make the account")
	p.says("neither sends to a central nor receives")

	// Somebody who may look at one site.
	p.open(address + "/access")
	p.fill("[name=account]", "ranger")
	p.fill("[name=sees]", "stony-beck/#")
	p.click("Create")
	p.until(`document.querySelector("[data-secret]")`)
	given := p.text(`document.querySelector("[data-secret]").innerText`)
	p.until(`document.querySelector("[data-account=ranger]")?.innerText.includes("its code, once")`)

	// A gateway may join; the code and the fingerprint are shown.
	p.open(address + "/access?tab=gateways")
	p.fill("[name=gateway]", "long-mere")
	p.click("Let it join")
	p.says(s.Fingerprint())
	_, err = client.Over(address, certs.Pinned(s.Fingerprint())).Join(t.Context(), client.Join{
		Gateway: "long-mere", Code: p.text(`document.querySelector("[data-secret]").innerText`),
	})
	require.NoError(t, err)
	p.until(`document.querySelector("[data-gateway=long-mere]")`)
	p.click("Revoke")
	p.says("may send no more")
	p.click("Revoke")
	p.until(`document.querySelector("[data-gateway=long-mere]")?.innerText.includes("revoked")`)

	// A token, shown once and revoked after a question.
	p.open(address + "/access?tab=tokens")
	p.fill("[name=token]", "night-report")
	p.click("Create")
	p.says("It is shown this once.")
	p.click("Revoke")
	p.says("is let in no more")
	p.click("Revoke")
	p.says("There are no tokens yet.")
	p.open(address + "/access?tab=audit")
	p.click("Verify")
	p.says("every one is there and as it was written")
	p.until(`document.querySelector("[data-audit='tokens.revoke']")`)

	// A passkey stands for both factors.
	p.do(func(ctx context.Context, target *chromedp.Target) (out chromedp.Void, err error) {
		if _, err = cdp.Call(ctx, target, webauthn.Enable, webauthn.EnableParams{}); err == nil {
			_, err = cdp.Call(ctx, target, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{Options: &webauthn.VirtualAuthenticatorOptions{
				Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: webauthn.AuthenticatorTransportInternal,
				HasResidentKey: true, HasUserVerification: true, IsUserVerified: true, AutomaticPresenceSimulation: true,
			}})
		}
		return out, err
	})
	p.open(address + "/account")
	p.says(s.Fingerprint())
	p.fill("[aria-label=Passkeys] [type=password]", words)
	p.fill("[name=passkey]", "phone")
	p.click("Make a passkey")
	p.until(`document.querySelector("[data-passkey=phone]")`)
	p.click("Log out")
	p.login("warden", words)
	p.says("the password alone is not enough here")
	p.click("Use a passkey")
	p.until(`document.querySelector("nav")`)
	p.open(address + "/account")
	p.fill("[aria-label=Passkeys] [type=password]", words)
	p.click("Remove")
	p.until(`!document.querySelector("[data-passkey=phone]")`)

	// An authenticator, of which a code is asked for.
	p.fill("[aria-label=Authenticator] [type=password]", words)
	p.click("Set one up")
	p.until(`document.querySelector("[aria-label=Authenticator] img")?.naturalWidth === 200`)
	secret := p.text(`document.querySelector("[aria-label=Authenticator] .font-mono").innerText`)
	now, err := totp.GenerateCode(secret, time.Now())
	require.NoError(t, err)
	p.fill("[aria-label=Authenticator] [inputmode=numeric]", now)
	p.click("Confirm")
	p.says("Its code is asked for beside the password.")
	p.click("Log out")
	p.login("warden", words)
	p.until(`document.querySelector("[name=code]")`)
	p.fill("[name=code]", "123456")
	p.click("Log in")
	p.says("account, password or code is wrong")

	// The viewer sees one site, and no page that is not for him.
	p.click("I was given a code")
	p.fill("[name=code]", given)
	p.fill("[name=password]", words)
	p.fill("[name=again]", words)
	p.click("Set it and log in")
	p.says("raceway-1")
	assert.False(t, p.is(`document.body.innerText.includes("long-mere")`))
	assert.Equal(t, "Now Trends Boards Notes Links",
		p.text(`[...document.querySelectorAll("nav[aria-label=Pages] a")].map((a) => a.innerText).join(" ")`))
	p.open(address + "/access")
	p.says("There is no page at /access for you.")

	// A page of another site, in the same browser, can do nothing in his name.
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w,
			`<body><form id=f method=post action="%s/api/v1/session/redeem" enctype="text/plain"><input name='{"code":"' value='"}'></form></body>`,
			address)
	}))
	defer other.Close()
	p.open(other.URL)
	got := p.text(fmt.Sprintf(`(() => { const x = new XMLHttpRequest(); x.open("POST", "%s/api/v1/account/password", false); x.withCredentials = true; x.setRequestHeader("Content-Type", "text/plain"); try { x.send("{}"); return "answered " + x.status } catch { return "kept apart" } })()`,
		address))
	assert.Equal(t, "kept apart", got)
	_, err = chromedp.Run(tab, chromedp.Evaluate[bool](`(document.getElementById("f").submit(), true)`))
	require.NoError(t, err)
	p.arrives("a page of another site may not do this")

	// He is logged out elsewhere: the page says so by itself.
	p.open(address)
	p.says("raceway-1")
	require.NoError(t, logOutEverywhere(s, "ranger"))
	p.until(`document.querySelector("[name=password]")`)
	assert.False(t, p.is(`document.body.innerText.includes("raceway-1")`))
}

// An office's people log in at their provider, and may do what their groups say.
func TestAnOfficeLogsInAtItsProvider(t *testing.T) {
	provider, err := sim.StartProvider("127.0.0.1:0", "nexocumula", "shared by both", sim.Office)
	require.NoError(t, err)
	defer provider.Close()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("shared by both\n"), 0o600))
	listen := free(t)
	settings, err := config.Parse("central.yaml", fmt.Appendf(nil, `
data: %[1]s/data
listen: %[2]s
central: { accept: [] }
access:
  login: required
  provider:
    name: head office
    issuer: %[3]s
    client_id: nexocumula
    secret_file: %[1]s/secret
    address: http://%[2]s
    groups: [{ group: wardens, role: administrator }, { group: stony-beck, role: viewer, sees: ["stony-beck/#"] }]
`, dir, listen, provider.Issuer), kinds.All)
	require.NoError(t, err)
	serve(t, settings)
	tab, closeTab, err := browser.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer closeTab()
	p := page{t, tab}
	require.NoError(t, chromedp.Do(tab, browser.Size(1280, 800)))
	as := func(name string) {
		p.open("http://" + listen + "/")
		p.click("Log in at head office")
		p.arrives("Who are you?")
		p.click(name)
	}
	as("ranger")
	p.arrives("Trends")
	assert.Equal(t, "Now Trends Boards Notes Links",
		p.text(`[...document.querySelectorAll("nav[aria-label=Pages] a")].map((a) => a.innerText).join(" ")`))
	p.open("http://" + listen + "/account")
	p.says("logs in at a provider")
	p.click("A code for the command line")
	p.until(`document.querySelector("[data-secret]")`)
	begun, err := client.New("http://"+listen).Login(t.Context(), client.Login{
		Code: p.text(`document.querySelector("[data-secret]").innerText`), By: "command line",
	})
	require.NoError(t, err)
	assert.Equal(t, "ranger", begun.Account)
	p.click("Log out")
	as("finch")
	p.arrives("none of your groups at head office may use this service")
	as("warden")
	p.arrives("Access")
	p.open("http://" + listen + "/access")
	p.until(`document.querySelector("[data-account=ranger]")?.innerText.includes("provider")`)

	// Whoever brings a state that was not begun in his browser is not let in.
	p.open("http://" + listen + "/api/v1/session/provider/back?state=made-up&code=x")
	p.arrives("this login was not begun in this browser")
}

// A service that is open says so on every page.
func TestAnOpenServiceSaysSoOnEveryPage(t *testing.T) {
	dir := t.TempDir()
	settings, err := config.Parse("central.yaml",
		[]byte("data: "+dir+"\nlisten: 0.0.0.0:0\nopen: true\ncentral: { accept: [] }\n"), kinds.All)
	require.NoError(t, err)
	s := serve(t, settings)
	tab, closeTab, err := browser.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer closeTab()
	p := page{t, tab}
	require.NoError(t, chromedp.Do(tab, browser.Size(1280, 800)))
	for _, at := range []string{"/", "/trends", "/field", "/links", "/account"} {
		p.open(strings.Replace(s.Address, "[::]", "127.0.0.1", 1) + at)
		p.says("This service is open: whoever reaches it may see and change everything.")
	}
	assert.False(t,
		p.is(`[...document.querySelectorAll("nav[aria-label=Pages] a")].some((a) => a.innerText === "Access")`))
}

// logOutEverywhere ends an account's sessions, as an administrator elsewhere would.
func logOutEverywhere(s *service.Service, account string) error {
	insecure := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	code, err := s.RecoveryCode()
	if err != nil {
		return err
	}
	post := func(call, body, bearer string, into any) error {
		method := http.MethodPost
		if body == "" {
			method = http.MethodDelete
		}
		req, err := http.NewRequest(method, strings.Replace(s.Address, "[::]", "127.0.0.1", 1)+"/api/v1/"+call,
			strings.NewReader(body))
		if err != nil {
			return err
		}
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Authorization", "Bearer "+bearer)
		if bearer == "" {
			req.Header.Del("Authorization")
		}
		resp, err := insecure.Do(req)
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		if resp.StatusCode != http.StatusOK {
			return fmt.Errorf("%s: HTTP %d", call, resp.StatusCode)
		}
		return json.NewDecoder(resp.Body).Decode(into)
	}
	var begun struct{ Secret string }
	if err := post("session/redeem", `{"code":"`+code+`","account":"second","password":"`+words+`"}`, "", &begun); err != nil {
		return err
	}
	if err := post("session", `{"account":"second","password":"`+words+`","by":"command line"}`, "", &begun); err != nil {
		return err
	}
	return post("accounts/"+account+"/sessions", "", begun.Secret, &struct{}{})
}
