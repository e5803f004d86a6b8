package mqtt

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/certs/certstest"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/gateway/source/sourcetest"
)

// A gateway that connects to a listener with TLS, and to one without, says which of the two is the mistake.
func TestWhoSpeaksTLSAndWhoDoesNotIsTold(t *testing.T) {
	t.Parallel()
	b, ca, stranger := sourcetest.New(t), certstest.New(t, t.TempDir()), certstest.New(t, t.TempDir())
	cert, key := ca.Make(t, "lake")
	own, ownKey := ca.Make(t, "gateway")
	wrong, wrongKey := stranger.Make(t, "gateway")
	safe := configured(t, b,
		fmt.Sprintf("address: 127.0.0.1:0\ntls: { cert: %s, key: %s, client_ca: %s }", cert, key, ca.CA))
	plain := configured(t, b, "address: 127.0.0.1:0")
	for _, test := range []struct {
		address, keys, says string
	}{
		{"tcp://" + safe.Tally().Address, "", "that port speaks TLS; write tls://" + safe.Tally().Address},
		{
			"tls://" + plain.Tally().Address, "tls: { ca: " + ca.CA + " }",
			"is it the port without TLS, or does it want another certificate?",
		},
		{
			"tls://" + safe.Tally().Address, "tls: { ca: " + ca.CA + " }",
			"the other end wants a certificate, and none was shown",
		},
		{
			"tls://" + safe.Tally().Address, fmt.Sprintf("tls: { ca: %s, cert: %s, key: %s }", ca.CA, wrong, wrongKey),
			"the other end refuses the certificate that was shown",
		},
		{
			"tls://" + safe.Tally().Address,
			fmt.Sprintf("tls: { ca: %s, cert: %s, key: %s }", stranger.CA, own, ownKey),
			"its certificate is of no authority that is known here",
		},
	} {
		for _, version := range []string{"3.1.1", "5"} {
			var raw brokerKeys
			f, at, err := shape.Read("b.yaml",
				[]byte(fmt.Sprintf("address: %s\nversion: %s\nclient_id: c\nmessages: [{ topic: x, series: a/b }]\n%s\n",
					test.address, version, test.keys)),
				&raw)
			require.NoError(t, err)
			s := checkBroker(at, "long-mere", raw).(brokerSettings)
			require.NoError(t, f.Err())
			one := newBroker("site", s, b.Pipe, slog.New(slog.DiscardHandler))
			b.Run(one.Run)
			b.Eventually(test.says, func() bool { return strings.Contains(one.Tally().LastError, test.says) })
			assert.False(t, one.Tally().Up)
		}
	}
	assert.Error(t, attempt(plain, "d", "", "", &tls.Config{InsecureSkipVerify: true}, "a/b"))
	b.Eventually("the device that speaks TLS is told", func() bool {
		return strings.Contains(fmt.Sprint(plain.Tally().Faults), "it speaks TLS, and this listener does not")
	})
}
