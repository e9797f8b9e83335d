package main

import (
	"bytes"
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"evensprout/internal/store/storetest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	blockPattern = regexp.MustCompile("(?ms)^```(\\w*) ?([^\n]*)\n(.*?)^```$")
	planName     = regexp.MustCompile(`(?m)^name: (\S+)`)
)

var update = flag.Bool("update", false, "write the examples in the docs anew, where they stand in full")

// What the docs show is what the program prints.
func TestExamplesInTheDocs(t *testing.T) {
	files, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	storetest.Client(t, "sqlite3", "sqlite3") // some examples ask it
	commands := 0
	for _, file := range append(files, "../../README.md", "../../CONTRIBUTING.md") {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		f := &folder{t: t, path: t.TempDir()}
		for _, block := range blockPattern.FindAllStringSubmatch(string(text), -1) {
			switch {
			case block[2] != "":
				f.write(block[2], block[3])
			case block[1] == "yaml" && strings.HasPrefix(block[3], "name: "):
				f.write(planName.FindStringSubmatch(block[3])[1]+".yaml", block[3])
			case block[1] == "console":
				for _, example := range strings.Split("\n"+block[3], "\n$ ")[1:] {
					line, want, _ := strings.Cut(example, "\n")
					commands++
					got := f.shell(line)
					if *update && !strings.Contains(want, "...") && want != "" {
						text = bytes.Replace(
							text,
							[]byte(line+"\n"+strings.TrimRight(want, "\n")+"\n"),
							[]byte(line+"\n"+got),
							1,
						)
						require.NoError(t, os.WriteFile(file, text, 0o644))
						continue
					}
					assert.Regexp(t, wildcard(want), got, "%s: $ %s", file, line)
				}
			}
		}
	}
	assert.Greater(t, commands, 9)
}

// wildcard makes a regular expression of expected output: ... stands for anything,
// and on a line of its own for any number of lines.
func wildcard(want string) string {
	want = regexp.QuoteMeta(strings.TrimRight(want, "\n"))
	want = strings.ReplaceAll(want, "\n"+regexp.QuoteMeta("..."), "(?s:\n.*)")
	want = strings.ReplaceAll(want, regexp.QuoteMeta("..."), ".*")
	return "^" + want + "\n?$"
}

// shell runs a command line of the docs and returns what a terminal would show.
func (f *folder) shell(line string) string {
	name := strings.Fields(line)[0]
	require.Equal(f.t, "evensprout", name)
	c := exec.Command("sh", "-c", line)
	c.Dir = f.path
	c.Env = []string{"PATH=" + filepath.Dir(program) + ":" + os.Getenv("PATH"), "HOME=" + f.path}
	out, _ := c.CombinedOutput()
	return strings.ReplaceAll(string(out), "\r\n", "\n")
}

// Every picture in the docs is there, and every picture is shown.
func TestPicturesInTheDocs(t *testing.T) {
	text, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	shown := map[string]bool{}
	for _, m := range regexp.MustCompile(`docs/screenshots/[\w-]+\.png`).FindAllString(string(text), -1) {
		shown[filepath.Base(m)] = true
		assert.FileExists(t, "../../"+m)
	}
	files, err := filepath.Glob("../../docs/screenshots/*.png")
	require.NoError(t, err)
	assert.Less(t, len(files), 20)
	for _, f := range files {
		assert.True(t, shown[filepath.Base(f)], "%s is in no page", f)
	}
}

// The version of Go is the same wherever it is named.
func TestGoVersionsAgree(t *testing.T) {
	version := func(file, pattern string) string {
		text, err := os.ReadFile(filepath.Join("../..", file))
		require.NoError(t, err)
		found := regexp.MustCompile(pattern).FindSubmatch(text)
		require.NotNil(t, found, "%s names no version of Go", file)
		return string(found[1])
	}
	want := version("go.mod", `(?m)^go (\S+)$`)
	assert.Equal(t, want, version("Containerfile", `golang:(\S+)`))
	assert.Equal(t, want, version("scripts/tools/go.mod", `(?m)^go (\S+)$`))
	assert.Equal(t, want, version("README.md", `Go (\d[\d.]*\d)`))
}
