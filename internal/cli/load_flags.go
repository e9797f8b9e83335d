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
	remembered           *load.Remembered // with anew: only rows that differ are written; nil: all
	changed, referring   bool             // with anew: words of also
	also                 []string
}

func (f *journalFlags) add(c *cobra.Command) {
	c.Flags().
		BoolVar(&f.resume, "resume", false, "continue an interrupted load, if there is one")
	c.Flags().
		BoolVar(&f.restore, "restore", false, "restore the tables to what was loaded")
	c.Flags().
		BoolVar(&f.anew, "anew", false, "withdraw this plan's rows and load the plan as it is")
	c.Flags().
		BoolVar(&f.retry, "retry-rejected", false, "load only the rows that earlier loads left out")
	c.Flags().
		StringArrayVar(&f.also, "also", nil, "with --anew: also changed or referring rows")
	c.Flags().
		BoolVar(&f.deleteExtra, "delete-extra", false, "with --restore: delete rows that are not the plan's")
	c.Flags().
		StringVar(&f.extra, "extra", "", "load a further set of rows, under this name")
	c.Flags().BoolVar(&f.ifEmpty, "if-empty", false, "leave tables alone that have rows")
	c.Flags().
		DurationVar(&f.wait, "wait", 0, "wait for server, tables, locks, other loads, as in 2m")
	c.Flags().
		BoolVar(&f.none, "no-journal", false, "keep no journal: no resume, no withdraw")
	c.Flags().
		BoolVar(&f.noUndo, "no-undo", false, "keep no previous contents: no exact withdraw")
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
		return diag.Usagef("--part writes a share of a load, so it cannot be combined with --no-journal, " +
			"--resume, --restore, --extra, --if-empty, --dry-run, --corrected, --indexes rebuild, --changes or " +
			"--page; the same command resumes a part")
	case write.part != "" && write.commit == string(plan.CommitLoad):
		return diag.Usagef("--part commits by chunk, so it cannot be combined with --commit load")
	case write.corrected != "" && (f.extra != "" || f.resume || f.restore):
		return diag.Usagef("--corrected cannot be combined with --resume, --restore or --extra")
	}
	return f.checkAlone(write.dryRun)
}

// rebuilds reports whether indexes are to be rebuilt, and not only where that is safe.
func (f *writeFlags) rebuilds() bool { return f.indexes.word == string(load.IndexesRebuild) }

// alone reports whether the flags ask for what no part of a load can do.
func (f *writeFlags) alone() bool { return f.dryRun || f.rebuilds() || f.changes != "" || f.page != "" }

// checkAlone tells what is wrong with the flags about the journal themselves.
func (f *journalFlags) checkAlone(dryRun bool) error {
	switch {
	case f.none && (f.resume || f.restore || f.extra != ""):
		return diag.Usagef("--no-journal cannot be combined with --resume, --restore or --extra, which need one")
	case f.resume && f.restore:
		return diag.Usagef("--resume and --restore cannot be combined")
	case f.resume && dryRun:
		return diag.Usagef("--resume and --dry-run cannot be combined")
	case len(f.also) > 0 && !f.anew:
		return diag.Usagef("--also needs --anew")
	case f.deleteExtra && !f.restore:
		return diag.Usagef("--delete-extra needs --restore")
	case f.wait < 0:
		return diag.Usagef("--wait must be a duration, such as 30s or 2m")
	}
	if err := checkExtra(f.extra); err != nil {
		return err
	}
	var err error
	f.changed, f.referring, err = parseAlso(f.also)
	return err
}

// checkExtra refuses a name of an extra load that cannot be one.
func checkExtra(name string) error {
	if unit.IsUnitSet(name) {
		return diag.Usagef("--extra: names that begin with unit: are reserved for units")
	}
	if len(name) > maxExtra || strings.ContainsAny(name, "\n\r\t\x00") {
		return diag.Usagef("--extra must be a name of at most %d characters", maxExtra)
	}
	return nil
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
				"--also must be changed or referring, got %q", word)

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
		IntVar(&f.chunk, "chunk", 0, fmt.Sprintf(
			"rows in a chunk (default %d; %d if compared)", load.DefaultChunk, load.StagedChunk))
	c.Flags().
		IntVar(&f.jobs, "jobs", jobsDefault(), "workers (default: the number of processors)")
}

func (f *loadFlags) options(c *cobra.Command) (load.Options, error) {
	if c.Flags().Changed("chunk") && (f.chunk < 1 || f.chunk > math.MaxInt32) {
		return load.Options{}, diag.Usagef("--chunk must be 1 or more, got %d", f.chunk)
	}
	if f.jobs < 1 || f.jobs > 256 {
		return load.Options{}, diag.Usagef("--jobs must be between 1 and 256, got %d", f.jobs)
	}
	return load.Options{Chunk: uint64(f.chunk), Jobs: f.jobs}, nil
}

// writeFlags are those of load alone.
type writeFlags struct {
	commit, part     string
	policies         []string
	rejects, changes string
	page             string
	maxRejects       int64
	corrected        string
	statements       bool
	dryRun           bool
	indexes          wordFlag
}

func (f *writeFlags) add(a *program, c *cobra.Command) {
	c.Flags().
		StringVar(&f.commit, "commit", "", "commit by load, chunk or family (default: as planned)")
	c.Flags().
		StringArrayVar(&f.policies, "on-violation", nil, "`KIND=POLICY` for refused rows: unique=skip; repeatable")
	c.Flags().
		StringVar(&f.rejects, "rejects", "", "write the rows left out to this `FILE`, as NDJSON")
	c.Flags().
		StringVar(&f.corrected, "corrected", "", "load only the rows of this corrected rejects `FILE`")
	c.Flags().Int64Var(&f.maxRejects, "max-rejects", 0, "roll back if more rows than this would be left out")
	c.Flags().
		StringVar(&f.changes, "changes", "", "write each value changed to this `FILE`, as CSV")
	c.Flags().
		BoolVar(&f.statements, "statements", false, "list statements with their count, rows and time")
	a.pageFlag(c, &f.page)
	partFlag(c, &f.part)
	c.Flags().BoolVar(&f.dryRun, "dry-run", false, "do everything, then roll it back")
	f.indexes = wordFlag{
		word: string(load.IndexesAuto), name: "way",
		words: []string{string(load.IndexesAuto), string(load.IndexesKeep), string(load.IndexesRebuild)},
	}
	c.Flags().Var(&f.indexes, "indexes", "of empty tables: auto, keep or rebuild")
	a.allowFlag(c)
	a.loginsFlag(c)
}

// options adds what the flags say.
func (f *writeFlags) options(c *cobra.Command, o load.Options) (load.Options, error) {
	o.DryRun, o.Indexes, o.MaxRejects = f.dryRun, load.IndexWay(f.indexes.word), f.maxRejects
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
		return o, diag.Usagef("--max-rejects must be 1 or more; without --on-violation no row is left out")
	}
	o.Policies = plan.Policies{}
	for _, text := range f.policies {
		if err := plan.ParsePolicy(text, o.Policies); err != nil {
			return o, diag.Usagef("--on-violation: %w", err)
		}
	}
	return o, nil
}
