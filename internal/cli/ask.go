package cli

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/certs"
	inwords "nexocumula/internal/plain"
	"nexocumula/internal/secret"
)

// atFlag is the service to ask.
var atFlag = &cli.StringFlag{
	Name: "at", Value: defaultAddress, Sources: cli.EnvVars("NEXOCUMULA_AT"),
	Usage: "service to ask: http://host:port, https://host:port, host:port, or the name of a profile",
	Validator: func(text string) error {
		_, err := addressOf(text)
		return err
	},
}

// quietFlag and verboseFlag go with every command.
var (
	quietFlag = &cli.BoolFlag{
		Name: "quiet", Aliases: []string{"q"}, Usage: "only answers and errors: no progress and no remarks beside them",
	}
	verboseFlag = &cli.BoolFlag{
		Name: "verbose", Aliases: []string{"v"}, Usage: "detailed log on standard error; of a command that asks a service, each request",
	}
)

// aside is where remarks go that are no part of an answer.
func aside(cmd *cli.Command) io.Writer {
	if cmd.Bool(quietFlag.Name) {
		return io.Discard
	}
	return cmd.Root().ErrWriter
}

// trustFlag and tokenFlag go with every command that asks a service.
var trustFlag = &cli.StringFlag{
	Name: "trust", Sources: cli.EnvVars("NEXOCUMULA_TRUST"),
	Usage: "PEM file of the authority of the service's certificate, or the certificate's fingerprint (SHA-256)",
	Validator: func(text string) error {
		_, err := trusting(text)
		return err
	},
}

// A token is never on the command line itself, where everybody on the machine could read it.
var tokenFlag = &cli.StringFlag{
	Name: "token-file", Sources: cli.EnvVars("NEXOCUMULA_TOKEN_FILE"), Usage: "file with the access token; NEXOCUMULA_TOKEN may hold the token itself",
	Validator: func(file string) error {
		_, err := tokenIn(file)
		return err
	},
}

func tokenIn(file string) (string, error) {
	text, err := os.ReadFile(file)
	if err == nil {
		err = secret.OnlyOwner(file)
	}
	if err == nil && strings.TrimSpace(string(text)) == "" {
		err = errors.New("it is empty")
	}
	if err != nil {
		return "", fmt.Errorf("the token in %s: %w", file, err)
	}
	return strings.TrimSpace(string(text)), nil
}

// trusting makes requests to whom a file or a fingerprint says.
func trusting(text string) (*http.Client, error) {
	if fingerprint, err := certs.ParseFingerprint(text); err == nil {
		return certs.Pinned(fingerprint), nil
	}
	trusted, err := certs.Open(certs.Files{CA: text})
	if err != nil {
		return nil, err
	}
	return trusted.HTTP(""), nil
}

// ask returns the client of the service that a command line names, with the token that was
// given, or kept by nexocumula login. What flags say was checked before.
func ask(cmd *cli.Command) *client.Client {
	address := serviceAt(cmd)
	known, err := profiles()
	if err != nil { // where one is needed the service asks for it
		fmt.Fprintln(cmd.Root().ErrWriter, "nexocumula:", err)
	}
	mine := known[address]
	by := &http.Client{}
	if mine.Fingerprint != "" {
		by = certs.Pinned(mine.Fingerprint)
	}
	if text := cmd.String(trustFlag.Name); text != "" {
		if trusted, err := trusting(text); err == nil {
			by = trusted
		}
	}
	token := mine.Token
	if text := os.Getenv("NEXOCUMULA_TOKEN"); text != "" {
		token = text
	}
	if file := cmd.String(tokenFlag.Name); file != "" {
		token, _ = tokenIn(file)
	}
	if cmd.Bool(verboseFlag.Name) {
		by.Transport = &traced{cmp.Or(by.Transport, http.DefaultTransport), logger(cmd)}
	}
	return client.Over(address, by).With(token)
}

// traced logs each request.
type traced struct {
	by  http.RoundTripper
	log *slog.Logger
}

func (t *traced) RoundTrip(r *http.Request) (*http.Response, error) {
	begun := time.Now()
	resp, err := t.by.RoundTrip(r)
	took := time.Since(begun).Round(100 * time.Microsecond)
	if err != nil {
		t.log.Debug("request", "method", r.Method, "url", r.URL.String(), "took", took, "error", err)
		return resp, err
	}
	t.log.Debug("request", "method", r.Method, "url", r.URL.String(), "took", took, "status", resp.StatusCode)
	return resp, err
}

// firstContact makes sure that a service is whom a person takes it for, and is the
// fingerprint that it is to be known by; "" where an authority vouches for it.
func firstContact(ctx context.Context, cmd *cli.Command, address string) (fingerprint string, err error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return "", usage("%q is no address; write https://host:port", address)
	}
	if text := cmd.String(trustFlag.Name); text != "" {
		fingerprint, _ = certs.ParseFingerprint(text) // a file vouches each time
		return fingerprint, nil
	}
	if u.Scheme != "https" {
		return "", nil
	}
	if u.Port() == "" {
		u.Host += ":443"
	}
	shown, err := shownBy(ctx, u.Host)
	if err != nil || shown == "" {
		return "", err
	}
	known, err := profiles()
	if err != nil {
		return "", err
	}
	switch before := known[address].Fingerprint; before {
	case shown:
		return shown, nil
	case "":
	default:
		return "", fmt.Errorf("%s: %w", address, &certs.Another{Shown: shown, Wanted: before})
	}
	out := cmd.Root().ErrWriter
	fmt.Fprintf(out,
		"%s shows a certificate that no authority known here vouches for. Its fingerprint (SHA-256):\n\n  %s\n\nCompare it with the one that the service printed at its start, or shows at its own console.\n",
		address, shown)
	yes, err := confirm(cmd, "Is it the same? yes/no: ")
	if err != nil {
		return "", err
	}
	if !yes {
		return "", errors.New("nothing was sent; without a terminal, give the fingerprint with --trust")
	}
	return shown, nil
}

// shownBy returns the fingerprint of the certificate that is shown at an address; "" when this
// machine trusts it.
func shownBy(ctx context.Context, host string) (string, error) {
	ctx, stop := context.WithTimeout(ctx, 15*time.Second)
	defer stop()
	dialer := &tls.Dialer{Config: &tls.Config{MinVersion: tls.VersionTLS12}}
	conn, err := dialer.DialContext(ctx, "tcp", host)
	if err == nil {
		return "", conn.Close()
	}
	bad, ok := errors.AsType[*tls.CertificateVerificationError](err)
	if !ok {
		if _, network := errors.AsType[*net.OpError](err); network {
			return "", fmt.Errorf("asking %s: %w", host, inwords.Network(err))
		}
		return "", fmt.Errorf("asking %s: it does not speak TLS as it should: %w", host, err)
	}
	return certs.Fingerprint(bad.UnverifiedCertificates[0].Raw), nil
}
