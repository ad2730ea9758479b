package cli

import (
	"fmt"
	"io"
	"log/slog"
	"os"
	"strings"
	"sync"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"calmdawn/internal/core/secret"
	"calmdawn/internal/document"
	"calmdawn/internal/render"
)

// logVariable stands for --verbose where it is "debug".
const logVariable = "CALMDAWN_LOG"

// trace has all that is read, asked and decided told on a stream, until what it
// returns is called. Launch lines stand there as in all that is shown: without
// their secrets.
func trace(to io.Writer, words []string) (end func()) {
	before := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(&oneAtATime{w: to}, &slog.HandlerOptions{
		Level: slog.LevelDebug, ReplaceAttr: safe,
	})))
	v := document.ThisVersion()
	slog.Debug("call", "words", secret.Words(words), "version", v.Version, "commit", v.Commit,
		"target", v.Target, "user", os.Geteuid())
	return func() { slog.SetDefault(before) }
}

// said are the words of a call with its flags. What one notes is one's own, and
// is left out.
func said(cmd *cobra.Command) []string {
	words := cmd.Flags().Args()
	if cmd.Name() == "note" {
		words = words[:min(1, len(words))]
	}
	words = append(strings.Fields(cmd.CommandPath()), words...)
	cmd.Flags().Visit(func(f *pflag.Flag) {
		words = append(words, "--"+f.Name+"="+f.Value.String())
	})
	return words
}

// safe keeps secrets, and what a terminal would act on, out of a log.
func safe(_ []string, a slog.Attr) slog.Attr {
	switch a.Value.Kind() {
	case slog.KindString:
		a.Value = slog.StringValue(secret.Hide(render.Clean(a.Value.String())))
	case slog.KindAny:
		a.Value = slog.StringValue(secret.Hide(render.Clean(fmt.Sprint(a.Value.Any()))))
	}
	return a
}

// oneAtATime is a writer for several goroutines.
type oneAtATime struct {
	mu sync.Mutex
	w  io.Writer
}

func (o *oneAtATime) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.w.Write(p)
}
