package cli

import (
	"bytes"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"
)

// scripts sets up the command that prints completion scripts. The library's
// evaluate what is typed, in which a name of somebody else's may stand: ours
// hand the words on one by one.
func (a *app) scripts(root *cobra.Command) {
	var text bytes.Buffer
	root.SetOut(&text) // which the library's commands keep
	root.InitDefaultCompletionCmd()
	root.SetOut(a.Out)
	for _, cmd := range root.Commands() {
		if cmd.Name() != "completion" {
			continue
		}
		cmd.Args = cobra.ArbitraryArgs
		cmd.RunE = func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usage("completion knows bash, zsh, fish and powershell, not %q", args[0])
			}
			return cmd.Help()
		}
		for _, shell := range cmd.Commands() {
			write := shell.RunE
			shell.RunE = func(cmd *cobra.Command, args []string) error {
				if err := write(cmd, args); err != nil {
					return err
				}
				script, err := withoutEval(shell.Name(), text.String())
				if err != nil {
					return err
				}
				_, err = io.WriteString(a.Out, script)
				return err
			}
		}
	}
}

// evaluated are the lines of the library's scripts that evaluate words, and
// what stands there instead.
var evaluated = map[string][][2]string{
	"bash": {
		{`requestComp="${words[0]} __complete ${args[*]}"`,
			`requestComp=("${words[0]/#\~\//$HOME/}" __complete "${args[@]}")`},
		// an empty last word is one already
		{`requestComp="${requestComp} ''"`, `[[ -z ${lastParam} ]] || requestComp+=("")`},
		{`out=$(eval "${requestComp}" 2>/dev/null)`, `out=$("${requestComp[@]}" 2>/dev/null)`},
		{`    # Use eval to handle any environment variables and such` + "\n", ``},
	},
	"zsh": {
		{`requestComp="${words[1]} __complete ${words[2,-1]}"`,
			`requestComp=("${${(Q)words[1]}/#\~\//$HOME/}" __complete "${(@Q)words[2,-1]}")`},
		{`requestComp="${requestComp} \"\""`, `:`},
		{`__calmdawn_debug "About to call: eval ${requestComp}"`,
			`__calmdawn_debug "About to call: ${requestComp}"`},
		{`out=$(eval ${requestComp} 2>/dev/null)`, `out=$("${requestComp[@]}" 2>/dev/null)`},
		{`    # Use eval to handle any environment variables and such` + "\n", ``},
		{`if eval _describe $keepOrder "completions" completions $flagPrefix $noSpace; then`,
			`local -a how
        [ -z "${flagPrefix}" ] || how+=(-P "${flagPrefix#-P }")
        [ -z "${noSpace}" ] || how+=(-S "")
        if _describe $keepOrder "completions" completions "${how[@]}"; then`},
	},
	"fish": {
		{`set -l lastArg (string escape -- (commandline -ct))`, `set -l lastArg (commandline -ct)`},
		{`    # Extract the last arg and escape it in case it is a space` + "\n", ``},
		{`set -l requestComp "CALMDAWN_ACTIVE_HELP=0 $args[1] __complete $args[2..-1] $lastArg"`,
			`set -l requestComp (string replace -r '^~/' "$HOME/" -- $args[1]) __complete ` +
				`$args[2..-1] "$lastArg"`},
		{`set -l results (eval $requestComp 2> /dev/null)`,
			`set -l results (env CALMDAWN_ACTIVE_HELP=0 $requestComp 2> /dev/null)`},
	},
}

// withoutEval replaces what a script evaluates. The error says that the library
// writes another one now.
func withoutEval(shell, script string) (string, error) {
	for _, line := range evaluated[shell] {
		if strings.Count(script, line[0]) != 1 {
			return "", fmt.Errorf("the script for %s is not the one that is known: %s", shell,
				line[0])
		}
		script = strings.Replace(script, line[0], line[1], 1)
	}
	return script, nil
}
