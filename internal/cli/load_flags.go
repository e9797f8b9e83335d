package cli

import (
	"fmt"
	"math"
	"strings"
	"time"

	"evensprout/internal/diag"
	"evensprout/internal/unit"

	"github.com/spf13/cobra"

	"evensprout/internal/load"
	"evensprout/internal/plan"
)

// journalFlags are those about earlier loads, and about what is kept of this one.
type journalFlags struct {
	none, noUndo         bool
	resume, restore      bool
	deleteExtra, ifEmpty bool
	extra                string
	wait                 time.Duration
	anew, retry          bool
	changed, referring   bool // with anew: words of also
	also                 []string
}

func (f *journalFlags) add(c *cobra.Command) {
	c.Flags().
		BoolVar(&f.resume, "resume", false, "go on with a load of this plan that broke off; if there is none, load "+
			"as usual")
	c.Flags().
		BoolVar(&f.restore, "restore", false, "bring the tables back to what was loaded, by the smallest set of "+
			"changes")
	c.Flags().
		BoolVar(&f.anew, "anew", false, "take this plan's rows back, and load the plan as it is now, in one "+
			"transaction")
	c.Flags().
		BoolVar(&f.retry, "retry-rejected", false, "load the rows that earlier loads of this plan left out, and "+
			"nothing else")
	c.Flags().
		StringArrayVar(&f.also, "also", nil, "with --anew: changed takes back also rows that were changed since; "+
			"referring deletes also rows that refer to those that go")
	c.Flags().
		BoolVar(&f.deleteExtra, "delete-extra", false, "with --restore: delete rows that are not the plan's also "+
			"from tables that had rows before")
	c.Flags().
		StringVar(&f.extra, "extra", "", "load as many rows again beside the plan's own, under a name: those that "+
			"the plan would go on with")
	c.Flags().BoolVar(&f.ifEmpty, "if-empty", false, "leave tables alone that have rows, as when: empty does")
	c.Flags().
		DurationVar(&f.wait, "wait", 0, "how long to wait for the server, for the planned tables, and for another "+
			"load of the plan, such as 2m")
	c.Flags().
		BoolVar(&f.none, "no-journal", false, "keep no journal: the load cannot be resumed or withdrawn, and a "+
			"second one does not know of it")
	c.Flags().
		BoolVar(&f.noUndo, "no-undo", false, "do not keep what rows held before they were changed or deleted: such "+
			"a load is not withdrawn exactly")
}

// check tells flags that do not go together.
func (f *journalFlags) check(write *writeFlags) error {
	otherRows := f.none || f.resume || f.restore || f.extra != "" || f.ifEmpty || write.corrected != ""
	switch {
	case f.anew && (otherRows || write.part != "" || write.commit != "" && write.commit != string(plan.CommitLoad)):
		return diag.Usagef("--anew cannot be combined with --no-journal, --resume, --restore, --extra, --if-empty, " +
			"--corrected, --part or another --commit than load")
	case f.retry && (otherRows || f.anew || write.part != ""):
		return diag.Usagef("--retry-rejected cannot be combined with --no-journal, --resume, --restore, --extra, " +
			"--if-empty, --anew, --corrected or --part")
	case write.part != "" && (otherRows || write.alone()):
		return diag.Usagef("--part is one of several that together are a load, so it goes with none of " +
			"--no-journal, --resume, --restore, --extra, --if-empty, --dry-run, --corrected, --rebuild-indexes and " +
			"--changes; run again, it goes on by itself")
	case write.part != "" && write.commit == string(plan.CommitLoad):
		return diag.Usagef("--part commits chunk by chunk, so it does not go with --commit load")
	case write.corrected != "" && (f.extra != "" || f.resume || f.restore):
		return diag.Usagef("--corrected goes with none of --resume, --restore and --extra")
	}
	return f.checkAlone(write.dryRun)
}

// alone reports whether the flags ask for what no part of a load can do.
func (f *writeFlags) alone() bool { return f.dryRun || f.rebuild || f.changes != "" }

// checkAlone tells what is wrong with the flags about the journal themselves.
func (f *journalFlags) checkAlone(dryRun bool) error {
	switch {
	case f.none && (f.resume || f.restore || f.extra != ""):
		return diag.Usagef("--no-journal goes with none of --resume, --restore and --extra, which need one")
	case f.resume && f.restore:
		return diag.Usagef("--resume and --restore are two things: which is meant?")
	case f.resume && dryRun:
		return diag.Usagef("--resume goes on where a load broke off, so it cannot be a --dry-run")
	case len(f.also) > 0 && !f.anew:
		return diag.Usagef("--also belongs to --anew")
	case f.deleteExtra && !f.restore:
		return diag.Usagef("--delete-extra belongs to --restore")
	case unit.IsUnitSet(f.extra):
		return diag.Usagef("--extra: names that begin with unit: are kept for runs of units")
	case len(f.extra) > maxExtra || strings.ContainsAny(f.extra, "\n\r\t\x00"):
		return diag.Usagef("--extra is a name of at most %d characters", maxExtra)
	case f.wait < 0:
		return diag.Usagef("--wait is a time from now, such as 30s or 2m")
	}
	var err error
	f.changed, f.referring, err = parseAlso(f.also)
	return err
}

// parseAlso reads the words of --also.
func parseAlso(words []string) (changed, referring bool, err error) {
	for _, word := range words {
		switch word {
		case "changed":
			changed = true
		case "referring":
			referring = true
		default:
			return false, false, diag.Usagef(
				"--also knows the words changed and referring, and here is %q", word)

		}
	}
	return changed, referring, nil
}

const maxExtra = 50 // characters of the name of a further set

// loadFlags are the flags that say how to load.
type loadFlags struct {
	chunk, jobs int
}

func (f *loadFlags) add(c *cobra.Command) {
	c.Flags().
		IntVar(&f.chunk, "chunk", 0, fmt.Sprintf("at most so many rows in a chunk; a family is kept whole (default "+
			"%d, or %d where rows are compared with those of a table)", load.DefaultChunk, load.StagedChunk))
	c.Flags().
		IntVar(&f.jobs, "jobs", jobsDefault(), "how many growers work at a time; with commit: chunk also connections")
}

func (f *loadFlags) options(c *cobra.Command) (load.Options, error) {
	if c.Flags().Changed("chunk") && (f.chunk < 1 || f.chunk > math.MaxInt32) {
		return load.Options{}, diag.Usagef("--chunk is a number of rows from 1 up, and here is %d", f.chunk)
	}
	if f.jobs < 1 || f.jobs > 256 {
		return load.Options{}, diag.Usagef("--jobs lies between 1 and 256, and here is %d", f.jobs)
	}
	return load.Options{Chunk: uint64(f.chunk), Jobs: f.jobs}, nil
}

// writeFlags are those of load alone.
type writeFlags struct {
	commit, part     string
	policies         []string
	rejects, changes string
	maxRejects       int64
	corrected        string
	statements       bool
	dryRun, rebuild  bool
}

func (f *writeFlags) add(a *program, c *cobra.Command) {
	c.Flags().
		StringVar(&f.commit, "commit", "", "what is committed together: load, chunk or family; else as the plan says")
	c.Flags().
		StringArrayVar(&f.policies, "on-violation", nil, "KIND=POLICY: what to do about refused rows (stop, skip, "+
			"redraw), such as unique=skip; all=skip for every kind")
	c.Flags().
		StringVar(&f.rejects, "rejects", "", "file for rows that were left out, as NDJSON; else NAME.rejects.ndjson")
	c.Flags().
		StringVar(&f.corrected, "corrected", "", "rejects file, corrected by hand: load its rows, and nothing else")
	c.Flags().Int64Var(&f.maxRejects, "max-rejects", 0, "stop, and roll back, when more rows would be left out")
	c.Flags().
		StringVar(&f.changes, "changes", "", "file for what update and upsert changed, from what, to what, as CSV")
	c.Flags().
		BoolVar(&f.statements, "statements", false, "list every distinct statement with how often it ran, rows and "+
			"time")
	partFlag(c, &f.part)
	c.Flags().BoolVar(&f.dryRun, "dry-run", false, "do everything, then roll back")
	c.Flags().
		BoolVar(&f.rebuild, "rebuild-indexes", false, "drop the indexes of empty tables and make them again after "+
			"the rows, inside the transaction")
	a.allowFlag(c)
}

// options adds what the flags say.
func (f *writeFlags) options(c *cobra.Command, o load.Options) (load.Options, error) {
	o.DryRun, o.Rebuild, o.MaxRejects = f.dryRun, f.rebuild, f.maxRejects
	if f.part != "" {
		var err error
		if o.Part, err = parsePart(f.part); err != nil {
			return o, err
		}
		o.Commit = plan.CommitChunk
	}
	if f.commit != "" {
		var err error
		if o.Commit, err = plan.ParseCommit(f.commit); err != nil {
			return o, diag.Usagef("--commit: %w", err)
		}
	}
	if c.Flags().Changed("max-rejects") && f.maxRejects < 1 {
		return o, diag.Usagef("--max-rejects is a number from 1 up; to allow none, leave --on-violation out")
	}
	o.Policies = plan.Policies{}
	for _, text := range f.policies {
		if err := plan.ParsePolicy(text, o.Policies); err != nil {
			return o, diag.Usagef("--on-violation: %w", err)
		}
	}
	return o, nil
}
