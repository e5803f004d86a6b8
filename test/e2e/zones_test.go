package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

// The clocks of a site are those it says itself, at the central too, and at the one above that,
// also when the site is not to be heard any more.
func TestACentralKnowsWhatClocksHangAtItsSites(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("otter-and-heron-7\n"), 0o600))
	_, head := service(t, dir, "head", fmt.Sprintf(`
data: %[1]s/head
listen: 127.0.0.1:0
central: { accept: [{ gateway: north, sites: [far-moor], secret_file: %[1]s/secret }] }
`, dir))
	office := fmt.Sprintf(`
data: %[1]s/office
listen: 127.0.0.1:0
zone: Europe/Oslo
central:
  name: north
  accept: [{ gateway: far-moor, secret_file: %[1]s/secret }]
  uplinks: [{ name: head-office, address: "%[2]s", secret_file: %[1]s/secret }]
`, dir, head.Base())
	running, central := service(t, dir, "office", office)
	port := freePort(t)
	site := func(zone, address string) string {
		return fmt.Sprintf(`
data: %[1]s/site
listen: 127.0.0.1:0
%[2]s
gateway:
  site: far-moor
  series: [{ select: "#", unit: m }]
  sources: [{ name: own, mqtt_listener: { address: "127.0.0.1:%[3]s", messages: [{ topic: "{station}/level", series: "{station}/level" }] } }]
  uplinks: [{ name: north, address: "%[4]s", secret_file: %[1]s/secret }]
`, dir, zone, port, address)
	}
	health := func(at *client.Client) client.Health {
		out, err := at.Health(t.Context())
		require.NoError(t, err)
		return out
	}
	zones := func(at *client.Client, want map[string]string) func() bool {
		return func() bool { return assert.ObjectsAreEqual(want, health(at).Zones) }
	}
	gateway, own := service(t, dir, "site", site("", central.Base()))
	assert.Equal(t, "UTC", health(own).Zone)
	eventually(t, "the gateway is heard", func() bool {
		return len(health(central).Central.Gateways) == 1 && health(central).Status == "ok"
	})
	assert.Empty(t, health(central).Zones, "of a site that says none the central's own is shown")
	assert.Equal(t, 0, gateway.interrupt(t))

	gateway, own = service(t, dir, "site", site("zone: America/Halifax", central.Base()))
	halifax := map[string]string{"far-moor": "America/Halifax"}
	assert.Equal(t, halifax, health(own).Zones)
	stream(t, port, "weir/level", "1.5")
	eventually(t, "the central knows", zones(central, halifax))
	assert.Equal(t, "Europe/Oslo", health(central).Zone)
	eventually(t, "the one above it knows", zones(head, halifax))
	eventually(t, "a summary arrives", func() bool {
		now, err := central.Now(t.Context(), "")
		return err == nil && len(now.Values) == 1
	})
	gateway.kill()
	assert.Equal(t, 0, running.interrupt(t))
	_, central = service(t, dir, "office",
		strings.Replace(office, "127.0.0.1:0", strings.TrimPrefix(central.Base(), "http://"), 1))
	assert.Equal(t, halifax, health(central).Zones, "after a restart, of a site that is silent")
}
