package e2e

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each of these lets its shell complete the beginning of a command, of an option and of a series, as somebody who
// types does.
var shells = map[string]string{
	"bash": `source /usr/share/bash-completion/bash_completion
source <(nexocumula completion bash)
function=$(complete -p nexocumula | sed -E 's/.*-F ([^ ]+).*/\1/')
complete() {
	COMP_WORDS=("$@") COMP_CWORD=$(($# - 1)) COMP_LINE="$*"
	COMP_POINT=${#COMP_LINE}
	$function nexocumula "${COMP_WORDS[-1]}" "${COMP_WORDS[-2]}"
	printf '%s\n' "${COMPREPLY[@]}"
}
complete nexocumula reje
complete nexocumula windows --stri
complete nexocumula windows stony-beck/race
`,
	"fish": `source (nexocumula completion fish | psub)
complete -C "nexocumula reje"
complete -C "nexocumula windows --stri"
complete -C "nexocumula windows stony-beck/race"
`,
	"zsh": `zmodload zsh/zpty
zpty typed zsh -f -i
zpty -w typed "autoload -U compinit; compinit -u -d $PWD/dump; source <(nexocumula completion zsh); PS1=; echo set" "up"
zpty -r -m typed out '*set up*'
complete() {
	zpty -w -n typed "$1"$'\t'
	zpty -r -m typed out "*$2*" && print -r -- "$out"
	zpty -w -n typed $'\C-u'
}
complete "nexocumula reje" reject
complete "nexocumula windows --stri" --stride
complete "nexocumula windows stony-beck/race" raceway-1/oxygen
zpty -d typed
`,
}

func TestShellsComplete(t *testing.T) {
	t.Parallel()
	program, err := binary()
	require.NoError(t, err)
	base := withOneReading(t)
	for shell, lines := range shells {
		t.Run(shell, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "lines"), []byte(lines), 0o600))
			require.NoError(t, os.Symlink(program, filepath.Join(dir, "nexocumula")))
			ctx, stop := context.WithTimeout(t.Context(), time.Minute)
			defer stop()
			cmd := exec.CommandContext(ctx, shell, "lines")
			cmd.Dir = dir
			cmd.Env = append(os.Environ(), "PATH="+dir+":"+os.Getenv("PATH"), "HOME="+dir, "TERM=dumb", "NEXOCUMULA_AT="+base)
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, string(out))
			assert.Contains(t, string(out), "reject")
			assert.Contains(t, string(out), "--stride")
			assert.Contains(t, string(out), "stony-beck/raceway-1/oxygen")
		})
	}
}
