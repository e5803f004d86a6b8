package mqtt

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	pahov5 "github.com/eclipse/paho.golang/paho"
	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"nexocumula/internal/certs/certstest"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/source/sourcetest"
	"nexocumula/internal/secret"
)

// configured returns a listener by its configuration, messages apart.
func configured(t *testing.T, b *sourcetest.Bench, keys string) *listener {
	s := checkedListener(t, keys)
	l := newListener("lake", s, b.Pipe, slog.New(slog.DiscardHandler))
	b.Run(l.Run)
	b.Eventually("it listens", func() bool { return l.Tally().Up })
	return l
}

func checkedListener(t *testing.T, keys string) listenerSettings {
	var raw listenerKeys
	f, at, err := shape.Read("l.yaml",
		[]byte(keys+"\nmessages: [{ topic: \"{station}/{quantity}\", series: \"{station}/{quantity}\" }]\n"), &raw)
	require.NoError(t, err)
	out := checkListener(at, "long-mere", raw).(listenerSettings)
	require.NoError(t, f.Err())
	return out
}

// attempt connects as a device and publishes one number.
func attempt(l *listener, id, user, password string, config *tls.Config, topic string) error {
	scheme := "tcp"
	if config != nil {
		scheme = "tls"
	}
	c := paho.NewClient(paho.NewClientOptions().AddBroker(scheme + "://" + l.Tally().Address).SetClientID(id).SetUsername(user).SetPassword(password).
		SetTLSConfig(config).SetAutoReconnect(false).SetConnectTimeout(30 * time.Second).SetProtocolVersion(4))
	token := c.Connect()
	if !token.WaitTimeout(time.Minute) || token.Error() != nil {
		return token.Error()
	}
	defer c.Disconnect(50)
	token = c.Publish(topic, 1, false, "5")
	for range 600 {
		if token.WaitTimeout(50*time.Millisecond) || !c.IsConnectionOpen() {
			break
		}
	}
	if token.Error() == nil && !c.IsConnectionOpen() {
		return fmt.Errorf("connection lost")
	}
	return token.Error()
}

func accountsFile(t *testing.T, lines ...string) string {
	file := filepath.Join(t.TempDir(), "accounts")
	require.NoError(t, os.WriteFile(file, []byte(strings.Join(lines, "\n")+"\n"), 0o600))
	return file
}

func TestOnlyAccountsAreLetInAndOnlyWhereTheyMay(t *testing.T) {
	b := sourcetest.New(t)
	old, err := bcrypt.GenerateFromPassword([]byte("smolt parr"), bcrypt.MinCost)
	require.NoError(t, err)
	file := accountsFile(t, "# devices", "buoy-1:"+secret.HashPassword([]byte("salmon run"), secret.OfDevices),
		"mast:"+string(old))
	l := configured(t, b,
		"address: 127.0.0.1:0\naccounts: "+file+"\npermissions:\n  - { topics: [\"{account}/#\"] }\n  - { accounts: [mast], topics: [\"shared/+\"] }")
	assert.NoError(t, attempt(l, "a", "buoy-1", "salmon run", nil, "buoy-1/oxygen"))
	assert.NoError(t, attempt(l, "a", "buoy-1", "salmon run", nil, "buoy-1/oxygen"), "remembered")
	assert.NoError(t, attempt(l, "b", "mast", "smolt parr", nil, "shared/wind"))
	for _, wrong := range [][2]string{{"buoy-1", "salmon rum"}, {"buoy-2", "salmon run"}, {"", ""}, {"mast", ""}} {
		assert.ErrorContains(t, attempt(l, "c", wrong[0], wrong[1], nil, "buoy-1/oxygen"), "not Authorized", wrong)
	}
	assert.Contains(t, l.Tally().LastError, `account "mast" is not known, or its password is another`)
	assert.ErrorContains(t, attempt(l, "a", "buoy-1", "salmon run", nil, "mast/wind"), "connection lost")
	b.Eventually("it is a reject", func() bool { return len(b.Rejects()) == 1 })
	assert.Equal(t, `device a, account "buoy-1", may not publish here; permissions: say where it may`,
		b.Rejects()[0].Reason)

	require.NoError(t,
		os.WriteFile(file, []byte("buoy-1:"+secret.HashPassword([]byte("another one"), secret.OfDevices)+"\n"), 0o600))
	require.NoError(t, os.Chtimes(file, time.Now(), time.Now().Add(time.Hour)))
	b.Eventually("the file is read again", func() bool {
		return attempt(l, "a", "buoy-1", "another one", nil, "buoy-1/oxygen") == nil
	})
	assert.Error(t, attempt(l, "a", "buoy-1", "salmon run", nil, "buoy-1/oxygen"), "what was right is forgotten")
}

func TestADeviceCannotTakeAnothersSession(t *testing.T) {
	b := sourcetest.New(t)
	l := configured(t, b,
		"address: 127.0.0.1:0\naccounts: "+accountsFile(t,
			"buoy-1:"+secret.HashPassword([]byte("salmon run"), secret.OfDevices),
			"buoy-2:"+secret.HashPassword([]byte("salmon run"), secret.OfDevices)))
	c := paho.NewClient(paho.NewClientOptions().AddBroker("tcp://" + l.Tally().Address).SetClientID("one").SetUsername("buoy-1").SetPassword("salmon run"))
	token := c.Connect()
	require.True(t, token.WaitTimeout(time.Minute))
	require.NoError(t, token.Error())
	defer c.Disconnect(50)
	assert.Error(t, attempt(l, "one", "buoy-2", "salmon run", nil, "x/y"))
	assert.Contains(t, l.Tally().LastError, `account "buoy-2" uses the client id of account "buoy-1"`)
	assert.True(t, c.IsConnectionOpen())
}

func TestCertificatesAreAccounts(t *testing.T) {
	b, ca := sourcetest.New(t), certstest.New(t, t.TempDir())
	cert, key := ca.Make(t, "lake")
	l := configured(t, b,
		fmt.Sprintf("address: 127.0.0.1:0\ntls: { cert: %s, key: %s, client_ca: %s }\npermissions: [{ topics: [\"{account}/+\"] }]",
			cert, key, ca.CA))
	pool := x509.NewCertPool()
	text, err := os.ReadFile(ca.CA)
	require.NoError(t, err)
	require.True(t, pool.AppendCertsFromPEM(text))
	with := func(ca *certstest.Authority, name string) *tls.Config {
		cert, key := ca.Make(t, name)
		pair, err := tls.LoadX509KeyPair(cert, key)
		require.NoError(t, err)
		return &tls.Config{RootCAs: pool, Certificates: []tls.Certificate{pair}}
	}
	assert.NoError(t, attempt(l, "a", "", "", with(ca, "buoy-1"), "buoy-1/oxygen"))
	assert.ErrorContains(t, attempt(l, "a", "", "", with(ca, "buoy-1"), "buoy-2/oxygen"), "connection lost")
	assert.Error(t, attempt(l, "a", "", "", &tls.Config{RootCAs: pool}, "buoy-1/oxygen"), "without a certificate")
	assert.Error(t,
		attempt(l, "a", "", "", with(certstest.New(t, t.TempDir()), "buoy-1"), "buoy-1/oxygen"), "of another authority")
	assert.Error(t, attempt(l, "a", "", "", nil, "buoy-1/oxygen"), "without TLS")
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		only := with(ca, "buoy-1")
		only.MinVersion, only.MaxVersion = version, version
		assert.NoError(t, attempt(l, "a", "", "", only, "buoy-1/oxygen"), tls.VersionName(version))
	}
	old := with(ca, "buoy-1")
	old.MaxVersion = tls.VersionTLS11
	assert.Error(t, attempt(l, "a", "", "", old, "buoy-1/oxygen"), "of an old version")

	other := certstest.New(t, ca.Dir) // new files in the place of the old
	other.Make(t, "lake")
	text, err = os.ReadFile(other.CA)
	require.NoError(t, err)
	pool = x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(text))
	b.Eventually("the files are read again", func() bool {
		return attempt(l, "a", "", "", with(other, "buoy-1"), "buoy-1/oxygen") == nil
	})
	require.NoError(t, os.WriteFile(cert, []byte("nothing"), 0o600))
	b.Eventually("it is noticed", func() bool { return l.settings.tls.Trouble() != nil })
	assert.NoError(t, attempt(l, "a", "", "", with(other, "buoy-1"), "buoy-1/oxygen"), "what was read before counts")
}

func TestWhoSendsTooMuchIsSentAway(t *testing.T) {
	b := sourcetest.New(t)
	l := configured(t, b, "address: 127.0.0.1:0\nmessages_per_second: 5")
	d := dial(t, l).connect("loud", true)
	for i := range uint16(20) {
		_, err := d.Write(publishPacket(i+1, "loud/x", "5"))
		if err != nil {
			break
		}
	}
	b.Eventually("it is a fault", func() bool { return len(l.Tally().Faults) > 0 })
	assert.Contains(t, l.Tally().Faults[0].Text, "sends more than messages_per_second allows, 5")
	dial(t, l).connect("calm", true).publish(1, 1, "calm/x", "5")
}

func TestWhoSendsTooMuchIsToldWhyInMQTT5(t *testing.T) {
	b := sourcetest.New(t)
	l := configured(t, b, "address: 127.0.0.1:0\nmessages_per_second: 5")
	conn, err := net.Dial("tcp", l.Tally().Address)
	require.NoError(t, err)
	told := make(chan byte, 1)
	c := pahov5.NewClient(pahov5.ClientConfig{
		Conn: conn, OnServerDisconnect: func(d *pahov5.Disconnect) { told <- d.ReasonCode },
	})
	_, err = c.Connect(t.Context(), &pahov5.Connect{ClientID: "loud", CleanStart: true, KeepAlive: 60})
	require.NoError(t, err)
	go func() {
		for range 20 {
			if _, err := c.Publish(t.Context(), &pahov5.Publish{Topic: "loud/x", QoS: 1, Payload: []byte("5")}); err != nil {
				return
			}
		}
	}()
	assert.Equal(t, byte(0x96), <-told, "message rate too high (MQTT 5, 2.4)")
}

func publishPacket(id uint16, topic, payload string) []byte {
	body := append([]byte{0, byte(len(topic))}, topic...)
	body = append(body, byte(id>>8), byte(id))
	body = append(body, payload...)
	return append([]byte{0x32, byte(len(body))}, body...)
}

func TestPresenceIsASeries(t *testing.T) {
	b := sourcetest.New(t)
	l := configured(t, b, "address: 127.0.0.1:0\npresence: \"{client}/online\"")
	latest := func() float64 {
		found, ok := b.Store.Find("long-mere/buoy-1/online")
		if !ok {
			return -1
		}
		at, value, ok, err := b.Store.LastBefore(t.Context(), found.ID, 0, time.Now().UnixNano())
		if err != nil || !ok || at == 0 {
			return -1
		}
		return value
	}
	first := dial(t, l).connect("buoy-1", true)
	b.Eventually("it is here", func() bool { return latest() == 1 })
	second := dial(t, l).connect("buoy-1", true) // takes over
	_, err := io.Copy(io.Discard, first.in)      // until it is ended
	assert.NoError(t, err)
	assert.EqualValues(t, 1, latest(), "the new connection counts")
	second.Close()
	b.Eventually("it is gone", func() bool { return latest() == 0 })
}

func TestALastWillIsAMessage(t *testing.T) {
	b := sourcetest.New(t)
	l := configured(t, b, "address: 127.0.0.1:0")
	c, err := tls.Dial("tcp", l.Tally().Address, nil)
	assert.Nil(t, c)
	assert.Error(t, err, "it speaks no TLS")
	d := dial(t, l)
	will := []byte{0, 4, 'M', 'Q', 'T', 'T', 4, 0x0e, 0, 60, 0, 1, 'w', 0, 6, 'm', 'a', 's', 't', '/', 'x', 0, 1, '7'}
	d.send(append([]byte{0x10, byte(len(will))}, will...))
	d.read(4)
	d.Close()
	b.Eventually("the will is a reading", func() bool {
		_, ok := b.Store.Find(series.Path("long-mere/mast/x"))
		return ok
	})
}

func TestMistakesInListenersAndBrokersAreNamed(t *testing.T) {
	open := filepath.Join(t.TempDir(), "open")
	require.NoError(t, os.WriteFile(open, []byte("a:b\n"), 0o644))
	cut := accountsFile(t, "a:$argon2id$v=19$m=19456,t=2,p=1$AAAA$AAAA")
	for keys, wrong := range map[string]string{
		"address: 0.0.0.0:1883":                                        "at 0.0.0.0:1883 any machine that reaches this one could publish without saying who it is; give accounts:",
		"address: :1883":                                               "could publish without saying who it is",
		"address: 127.0.0.1:0\naccounts: " + open:                      "which holds a secret; run chmod 640",
		"address: 127.0.0.1:0\naccounts: " + cut:                       ":1: account a: the argon2id hash is cut off",
		"address: 127.0.0.1:0\naccounts: nowhere":                      "no such file",
		"address: 127.0.0.1:0\ntls: { cert: a }":                       "a listener needs cert: and key:",
		"address: 127.0.0.1:0\ntls: { cert: a, key: b }":               "no such file",
		"address: 127.0.0.1:0\npermissions: [{ topics: [\"{x}/a\"] }]": "{x} is not known here; there are {account} and {client}",
		"address: 127.0.0.1:0\npresence: \"{station}/online\"":         "uses {station}",
		"address: 127.0.0.1:0\nmessages_per_second: -1":                "-1 messages a second are not possible",
	} {
		var raw listenerKeys
		f, at, err := shape.Read("l.yaml", []byte(keys+"\nmessages: [{ topic: t, series: a/b }]\n"), &raw)
		require.NoError(t, err)
		checkListener(at, "s", raw)
		assert.ErrorContains(t, f.Err(), wrong, keys)
	}
	for keys, wrong := range map[string]string{
		"address: mqtt://b:1":                       "write tcp://host:port, or tls://host:port",
		"address: tcp://b:1\ntls: { ca: x }":        "tls: is for an address that begins with tls://",
		"address: tls://b:1\ntls: { ca: nowhere }":  "no such file",
		"address: tls://b:1\ntls: { cert: x }":      "give both cert and key",
		"address: tcp://b:1\nversion: 4":            "version 4 of MQTT is not known; use 3.1.1 or 5",
		"address: tcp://b:1\nshare: a":              "are of MQTT 5; say version: 5",
		"address: tcp://b:1\nversion: 5\nshare: a+": "is no name of a shared subscription",
	} {
		var raw brokerKeys
		f, at, err := shape.Read("b.yaml", []byte(keys+"\nmessages: [{ topic: t, series: a/b }]\n"), &raw)
		require.NoError(t, err)
		checkBroker(at, "s", raw)
		assert.ErrorContains(t, f.Err(), wrong, keys)
	}
}
