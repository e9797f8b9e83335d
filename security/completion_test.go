//go:build unix

package security_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store/storetest"
)

// Names that shells would evaluate, wherever completion takes them from.
const trickyPlan = `name: "$(touch NAMED)"
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  "$(touch ENTITY)a": {table: ports, rows: 1, fields: {label: {kind: locality}}}
  "` + "`touch TICKS`" + `b": {table: ports, rows: 1, fields: {label: {kind: locality}}}
  "c; touch SEMICOLON": {table: ports, rows: 1, fields: {label: {kind: locality}}}
  "d' $(touch QUOTED) '": {table: ports, rows: 1, fields: {label: {kind: locality}}}
  Port: {table: ports, rows: 1, fields: {label: {kind: locality}}}
units:
  "$(touch UNIT)u":
    steps: [{delete: Port, match: {id: 99}, expect: any}]
`

// A press of TAB runs no code, in any shell, whatever names a plan or a journal holds.
func TestCompletionRunsNothing(t *testing.T) {
	b := onSQLite(t, "")
	b.write("tricky.yaml", trickyPlan)
	b.on("load", "tricky.yaml", "--without-units")
	lines := []string{
		"evensprout preview tricky.yaml --entity ", "evensprout look tricky.yaml ",
		"evensprout load tricky.yaml --unit ", "evensprout withdraw --db " + b.url + " ", "evensprout history --db " + b.url + " ",
	}
	require.NoError(t, os.Symlink(program, b.file("evensprout")))
	for _, shell := range []struct{ name, script string }{
		// What readline does when TAB is pressed: the function is called, and its replies are inserted and evaluated
		// when the line is run. A word list that was evaluated on the way has left its traces by then.
		{"bash", `# what the package bash-completion brings
_get_comp_words_by_ref() { words=("${COMP_WORDS[@]}"); cword=$COMP_CWORD; cur="${words[cword]}"; prev="${words[cword-1]}"; }
__ltrim_colon_completions() { :; }
source <(evensprout completion bash)
line="$1"; read -ra COMP_WORDS <<<"$line"; COMP_WORDS+=(""); COMP_CWORD=$((${#COMP_WORDS[@]}-1)); COMP_LINE="$line"; COMP_POINT=${#line}; COMP_TYPE=9
complete -p evensprout >/dev/null || exit 9
__start_evensprout
for reply in "${COMPREPLY[@]}"; do printf '%s\n' "$reply"; eval ": $reply"; done`},
		{"zsh", `autoload -U compinit; compinit -u
source <(evensprout completion zsh)
out=$(evensprout __complete ${(z)1#evensprout } "")
for reply in ${(f)out}; do word=${reply%%$'\t'*}; case $word in :*|Completion*) ;; *) print -r -- $word; eval ": $word";; esac; done`},
		{"fish", `evensprout completion fish | source
for reply in (complete -C "$argv[1]"); echo $reply; eval ": "(string split -f1 \t -- $reply); end`},
	} {
		t.Run(shell.name, func(t *testing.T) {
			path := storetest.Client(t, shell.name, shell.name)
			offered := ""
			for _, line := range lines {
				args := []string{"-c", shell.script, "x", line}
				if shell.name == "fish" {
					args = []string{"--no-config", "-c", shell.script, line}
				}
				c := exec.Command(path, args...)
				c.Dir = b.folder
				c.Env = []string{"PATH=" + b.folder + ":" + os.Getenv("PATH"), "HOME=" + b.folder, "TERM=dumb"}
				out, err := c.CombinedOutput()
				assert.NoError(t, err, "%s: %s", line, out)
				offered += string(out)
			}
			assert.Contains(t, offered, "Port", "plain names are offered")
			assert.NotContains(t, offered, "touch")
			for _, trace := range []string{"NAMED", "ENTITY", "TICKS", "SEMICOLON", "QUOTED", "UNIT"} {
				found, err := filepath.Glob(b.file(trace + "*"))
				require.NoError(t, err)
				assert.Empty(t, found, "%s ran code: %s", shell.name, strings.Join(found, " "))
			}
		})
	}
}
