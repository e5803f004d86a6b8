package shape

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type parts struct {
	All []Part `yaml:"all"`
}

type animal struct {
	Kind string `yaml:"kind" is:"required" says:"fish or bird"`
	Legs []int  `yaml:"legs"`
}

func TestMergedKeysCountAsTheirOwn(t *testing.T) {
	var raw parts
	f, _, err := Read("f.yaml", []byte("all:\n  - &one { kind: fish }\n  - { <<: *one, legs: [1, 2] }\n  - 7\n"), &raw)
	require.NoError(t, err)
	require.NoError(t, f.Err())
	kind, there := raw.All[1].Text("kind")
	assert.True(t, there)
	assert.Equal(t, "fish", kind)
	_, there = raw.All[1].Text("wings")
	assert.False(t, there)
	var a animal
	raw.All[1].Fill(nil, &a)
	assert.Equal(t, animal{"fish", []int{1, 2}}, a)
	raw.All[2].Fill(nil, &a)
	assert.ErrorContains(t, f.Err(), "f.yaml:4:5: all[2]: keys with values belong here")
}

func TestWhatHoldsItselfIsRefused(t *testing.T) {
	for _, text := range []string{
		"all: &a\n  - <<: *a\n",
		"all:\n  - &a { <<: *a, kind: x }\n",
		"all: " + strings.Repeat("[", 100) + strings.Repeat("]", 100),
	} {
		var raw parts
		f, _, err := Read("f.yaml", []byte(text), &raw)
		if err != nil {
			continue
		}
		for _, p := range raw.All {
			p.Text("kind")
			p.Fill(nil, &animal{})
		}
		assert.Error(t, f.Err(), text)
	}
}

func TestASecretThatEverybodyMayReadIsRefused(t *testing.T) {
	file := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(file, []byte("trout\n"), 0o600))
	for mode, wrong := range map[os.FileMode]string{
		0o600: "",
		0o640: "",
		0o644: "run chmod 640",
		0o602: "run chmod 640",
	} {
		require.NoError(t, os.Chmod(file, mode))
		var raw struct {
			Secret `yaml:",inline"`
		}
		f, at, err := Read("f.yaml", []byte("secret_file: "+file+"\n"), &raw)
		require.NoError(t, err)
		assert.Equal(t, "trout", at.Secret(raw.Secret, true))
		if wrong == "" {
			assert.NoError(t, f.Err(), mode)
		} else {
			assert.ErrorContains(t, f.Err(), wrong, mode)
		}
	}
}

func TestKeysAreListedFromTheirStructs(t *testing.T) {
	assert.Equal(t, []Key{{"kind", "required", "fish or bird"}, {"legs", "", ""}}, Keys(&animal{}))
}
