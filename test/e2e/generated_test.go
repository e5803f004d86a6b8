package e2e

import (
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// story is what the README does with its first service, through a client that is generated from the description.
const story = `import createClient from "openapi-fetch";
import type { paths } from "../src/api/schema.gen";

declare const process: { argv: string[] };
const base = process.argv[2] ?? "";
const api = createClient<paths>({ baseUrl: base });

const now = await api.GET("/api/v1/now", { params: { query: { select: "stony-beck/#" } } });
const value: number | string | null | undefined = now.data?.values[0]?.value;
console.log("now", now.data?.values[0]?.path, value);

const windows = await api.GET("/api/v1/windows", {
  params: { query: { select: ["stony-beck/+/oxygen"], last: "1h", width: "1h", stats: "count,sd", explain: true } },
});
const of = typeof windows.data === "object" ? windows.data.series[0]?.values : undefined;
const at = of?.["count"]?.indexOf(1) ?? -1;
console.log("count", of?.["count"]?.[at], "of one there is no sd:", of?.["sd"]?.[at] === null);

const note = await api.POST("/api/v1/notes", { body: { about: "stony-beck/raceway-1", text: "probe cleaned" } });
console.log("note", note.response.status, note.response.headers.get("location"), note.data?.text);

const refused = await api.GET("/api/v1/windows", { params: { query: { select: ["nowhere/x/y"] } } });
console.log("refused", refused.error?.code, refused.error?.status);
`

// told is what each of these programs says.
func told(t *testing.T, said, where string) {
	t.Helper()
	assert.Contains(t, said, "now stony-beck/raceway-1/oxygen 8.5\n", where)
	assert.Contains(t, said, "count 1 of one there is no sd: true\n", where)
	assert.Contains(t, said, "note 201 /api/v1/notes/1 probe cleaned\n", where)
	assert.Contains(t, said, "refused unknown_series 404\n", where)
}

// withOneReading starts a gateway that has been sent one.
func withOneReading(t *testing.T) (base string) {
	t.Helper()
	data := t.TempDir()
	secret := filepath.Join(data, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("salmon run at dawn"), 0o600))
	_, gateway := service(t, data, "gateway", "data: "+data+"/data\nlisten: 127.0.0.1:0\ngateway:\n  site: stony-beck\n  sources:\n"+
		"    - name: scripts\n      http_push: { senders: [{ name: lake, secret_file: "+secret+" }] }\n")
	push, err := http.NewRequest(http.MethodPost, gateway.Base()+"/api/v1/readings",
		strings.NewReader(`[{"n":"raceway-1/oxygen","u":"mg/l","v":8.5}]`))
	require.NoError(t, err)
	push.Header.Set("Authorization", "Bearer salmon run at dawn")
	push.Header.Set("Content-Type", "application/senml+json")
	answer, err := http.DefaultClient.Do(push)
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, http.StatusOK, answer.StatusCode)
	return gateway.Base()
}

// runIn runs a program in a folder and returns what it says.
func runIn(t *testing.T, dir, name string, args ...string) string {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), "GOFLAGS=")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s: %s", name, out)
	return string(out)
}

func TestAGeneratedTypeScriptClientTellsTheReadmesStory(t *testing.T) {
	t.Parallel()
	web, err := filepath.Abs("../../web")
	require.NoError(t, err)
	dir, err := os.MkdirTemp(web, "client-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.WriteFile(filepath.Join(dir, "story.ts"), []byte(story), 0o600))
	runIn(t, dir, filepath.Join(web, "node_modules", ".bin", "tsc"), "--strict", "--noUncheckedIndexedAccess", "--target", "es2022",
		"--module", "esnext", "--moduleResolution", "bundler", "--skipLibCheck", "--outDir", "out", "story.ts")
	told(t, runIn(t, dir, "node", filepath.Join("out", filepath.Base(dir), "story.js"), withOneReading(t)), "TypeScript")
}

func TestAGeneratedGoClientTellsTheReadmesStory(t *testing.T) {
	t.Parallel()
	description, err := filepath.Abs("../../api/openapi.yaml")
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS(filepath.Join(sourceDir(), "peers", "goclient"))))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "nexo"), 0o700))
	runIn(t, dir, "go", "tool", "oapi-codegen", "-generate", "types,client", "-package", "nexo", "-o", "nexo/client.gen.go", description)
	runIn(t, dir, "go", "build", "-o", "reader", ".")
	told(t, runIn(t, dir, filepath.Join(dir, "reader"), withOneReading(t)), "Go")
}
