package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/spf13/cobra"

	"evensprout/internal/app"
	"evensprout/internal/diag"
	"evensprout/internal/plan"
)

// watchFlag lets a command run again whenever the plan, or a file that it reads, is saved.
func watchFlag(c *cobra.Command) {
	c.Flags().Bool("watch", false, "run again at each save of the plan or its files")
}

// settled is how long no file must change before a command runs again: editors write in several steps.
const settled = 30 * time.Millisecond

// watched runs a command and, if the flag says so, runs it again at each save. After a mistake the watch goes on.
func (a *program) watched(cmd *cobra.Command, args []string, run func() error) error {
	if on, _ := cmd.Flags().GetBool("watch"); !on {
		return run()
	}
	path := app.DefaultPlan
	if len(args) > 0 {
		path = args[0]
	}
	if path == "-" {
		return diag.Usagef("--watch needs a plan in a file")
	}
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return err
	}
	defer w.Close()
	ctx := cmd.Context()
	for {
		files := watchedFiles(path)
		// Folders are watched: an editor may put a new file in the place of the old one. They are watched before
		// the command runs: a save during the run counts.
		for _, f := range files {
			if err := w.Add(filepath.Dir(f)); err != nil {
				return fmt.Errorf("%s cannot be watched: %w", filepath.Dir(f), err)
			}
		}
		err := run()
		if ctx.Err() != nil {
			return err
		}
		if err != nil {
			a.exit(err)
		}
		fmt.Fprintf(a.err, "watching %s: save to run again, Ctrl-C to end\n", diag.Count(len(files), "file", "files"))
		changed, err := nextSave(ctx, w, files)
		if err != nil || changed == "" {
			return err
		}
		fmt.Fprintf(a.err, "\n%s was saved\n", changed)
	}
}

// watchedFiles are the plan and the files that it reads, as far as the plan can be read.
func watchedFiles(path string) []string {
	files := []string{path}
	p, err := plan.ReadFile(path)
	if err != nil {
		return files
	}
	for _, f := range append(p.Reads(), p.Files()...) {
		if info, err := os.Stat(f); err == nil && info.Mode().IsRegular() && !slices.Contains(files, f) {
			files = append(files, f)
		}
	}
	return files
}

// nextSave waits until one of some files has changed and no other changes for a moment; empty if the watch ends.
func nextSave(ctx context.Context, w *fsnotify.Watcher, files []string) (changed string, err error) {
	names := map[string]string{}
	for _, f := range files {
		if abs, err := filepath.Abs(f); err == nil {
			names[abs] = f
		}
	}
	var quiet <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return "", nil
		case <-quiet:
			return changed, nil
		case err, ok := <-w.Errors:
			if !ok {
				return "", nil
			}
			return "", errors.Join(errors.New("the files cannot be watched any more"), err)
		case e, ok := <-w.Events:
			if !ok {
				return "", nil
			}
			abs, _ := filepath.Abs(e.Name)
			if f, mine := names[abs]; mine && !e.Has(fsnotify.Chmod) {
				changed, quiet = f, time.After(settled)
			}
		}
	}
}
