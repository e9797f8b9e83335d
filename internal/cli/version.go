package cli

import (
	"fmt"
	"runtime"
	"runtime/debug"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/journal"
)

// number is the version of the program.
const number = "1.0.0-rc.1"

// development marks a program that was not built from a commit as it is.
const development = "(development)"

// buildInfo is which program this is, for version --json.
type buildInfo struct {
	Version  string   `json:"version"`
	Commit   string   `json:"commit,omitempty"`
	Date     string   `json:"date,omitempty"` // of the commit
	Modified bool     `json:"modified"`       // the commit was edited, or is not known
	Editions []string `json:"editions"`       // of rows
	Formats  formats  `json:"formats"`
	Go       string   `json:"go"`
	Platform string   `json:"platform"`
}

// formats are the versions of what other programs read and write (docs/compatibility.md).
type formats struct {
	Plan      int `json:"plan"`
	JSON      int `json:"json"` // the output of --json
	ExitCodes int `json:"exit_codes"`
	Journal   int `json:"journal"`
}

// built reads which program this is from what the compiler noted in it.
func built() buildInfo {
	b := buildInfo{Version: number, Modified: true, Go: runtime.Version(),
		Platform: runtime.GOOS + "/" + runtime.GOARCH,
		Formats:  formats{Plan: 1, JSON: 1, ExitCodes: 1, Journal: journal.JournalFormat}}
	for _, e := range grow.Editions() {
		b.Editions = append(b.Editions, e.Name)
	}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return b
	}
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			b.Commit = s.Value
		case "vcs.time":
			b.Date = s.Value
		case "vcs.modified":
			b.Modified = s.Value != "false"
		}
	}
	return b
}

// release is the program and its version.
func (b buildInfo) release() string {
	if b.Modified {
		return "evensprout " + number + " " + development
	}
	return "evensprout " + number
}

// String is the build in one line.
func (b buildInfo) String() string {
	from := ""
	if b.Commit != "" {
		day, _, _ := strings.Cut(b.Date, "T")
		from = fmt.Sprintf(", commit %s of %s", b.Commit[:min(len(b.Commit), 12)], day)
	}
	return fmt.Sprintf("%s%s, edition %s, %s %s", b.release(), from, strings.Join(b.Editions, ", "), b.Go, b.Platform)
}

// release is the program and its version.
func release() string { return built().release() }

// version is the build in one line.
func version() string { return built().String() }
