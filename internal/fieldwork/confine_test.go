package fieldwork_test

import (
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/fieldwork"
	"nexocumula/internal/kinds"
)

func TestLinesFromOthersNameNoFilesButThoseInTheirFolder(t *testing.T) {
	dir := t.TempDir()
	data, files := filepath.Join(dir, "data"), filepath.Join(dir, "files")
	for _, folder := range []string{data, files, filepath.Join(files, "inner")} {
		require.NoError(t, os.Mkdir(folder, 0o750))
	}
	write := func(path, text string) { require.NoError(t, os.WriteFile(path, []byte(text), 0o600)) }
	write(filepath.Join(data, "own-key.pem"), "the key of the service")
	write(filepath.Join(dir, "elsewhere"), "secret of somebody else")
	write(filepath.Join(files, "good"), "trout")
	require.NoError(t, os.Symlink(filepath.Join(dir, "elsewhere"), filepath.Join(files, "link")))
	require.NoError(t, os.Symlink(data, filepath.Join(files, "inner", "data")))
	file := filepath.Join(dir, "gateway.yaml")
	write(file, "data: "+data+"\ngateway:\n  site: long-mere\n  series: []\n")
	source := func(keys string) string {
		return "- name: new\n  mqtt_broker:\n    address: tcp://192.0.2.1:1883\n    messages: [{ topic: a/b, series: a/b }]\n" + keys
	}
	try := func(lines, folder string) error {
		_, err := fieldwork.Append(file, client.Append{Sources: lines}, &config.Field{Files: folder}, data)
		return err
	}
	require.NoError(t, try(source(""), ""))
	require.NoError(t, try(source("    secret_file: "+files+"/good\n"), files))
	for _, path := range []string{
		"good", data + "/own-key.pem", dir + "/elsewhere", files + "/link", files + "/inner/data/own-key.pem", files + "/../elsewhere", "/etc/passwd", "/no/such/file", files, dir + "/filesystem",
	} {
		err := try(source("    secret_file: "+path+"\n"), files)
		require.Error(t, err, path)
		assert.Contains(t, err.Error(), "field: files:", path)
		assert.NotContains(t, err.Error(), "secret of somebody else")
	}
	assert.Equal(t, try(source("    secret_file: "+dir+"/elsewhere\n"), files).Error(),
		strings.ReplaceAll(try(source("    secret_file: "+dir+"/nothing\n"), files).Error(), "nothing", "elsewhere"),
		"nothing tells whether a file is there")
	for keys, says := range map[string]string{
		"    secret_file: " + files + "/good\n": "may not name files here", "    secret_env: HOME\n": "secret_env: lines that arrive over HTTP may not name it", "    secret_credential: x\n": "secret_credential",
		"    tls: { ca: /etc/passwd }\n": "ca: lines that arrive", "    tls: &x { cert: /etc/passwd }\n": "cert: lines that arrive",
	} {
		assert.ErrorContains(t, try(source(keys), ""), says)
	}
	modbus := "- name: new\n  modbus: { address: tcp://192.0.2.1:502, devices: [{ unit: 1, description: /etc/passwd, station: x }] }\n"
	assert.ErrorContains(t, try(modbus, ""), "description: lines that arrive over HTTP may not name files here")
}

// Every key that names a file is known to be one.
func TestAllKeysThatNameFilesAreKnown(t *testing.T) {
	for _, list := range kinds.KeyLists() {
		for _, key := range list.Keys {
			if list.Name == "access" || list.Name == "field" || !strings.Contains(strings.ToLower(key.Says), "file") ||
				key.Name == "devices" {
				continue
			}
			assert.True(t, fieldwork.NamesFile(key.Name[strings.LastIndexByte(key.Name, 0x2e)+1:]), "%s: %s: %s",
				list.Name, key.Name, key.Says)
		}
	}
}

func TestToolsConnectOnlyWhereTheyMay(t *testing.T) {
	var usual config.Field
	for address, wrong := range map[string]string{
		"tcp://127.0.0.1:1883": "", "tcp://10.1.2.3:502": "", "rtu+tcp://[::1]:502": "", "udp://192.168.1.1:502": "", "rtu:///dev/ttyS0": "", "tls://localhost:8883": "",
		"tcp://192.0.2.7:502": "leads to 192.0.2.7, where tools may not connect", "tcp://169.254.169.254:80": "may not connect", "tls://[2001:db8::1]:8883": "may not connect",
		"tcp://[::ffff:192.0.2.7]:502": "may not connect", "rtu:///etc/passwd": "is no serial line", "tcp://0.0.0.0:502": "may not connect",
	} {
		_, err := fieldwork.Pinned(t.Context(), usual, address)
		if wrong == "" {
			assert.NoError(t, err, address)
		} else {
			assert.ErrorContains(t, err, wrong)
		}
	}
	pinned, err := fieldwork.Pinned(t.Context(), usual, "rtu+tcp://localhost:502")
	require.NoError(t, err)
	assert.NotContains(t, pinned, "localhost", "it connects to the address that was looked at")
	only := config.Field{Networks: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}}
	_, err = fieldwork.Pinned(t.Context(), only, "tcp://192.0.2.7:502")
	assert.NoError(t, err)
	_, err = fieldwork.Pinned(t.Context(), only, "tcp://127.0.0.1:502")
	assert.Error(t, err)
}
