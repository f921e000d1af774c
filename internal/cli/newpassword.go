package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"nurvik/core/inputfile"
)

// newPasswordFlag is where the password comes from that protects what is written.
type newPasswordFlag struct{ file string }

func (f *newPasswordFlag) add(cmd *cobra.Command, what string) {
	cmd.Flags().StringVar(&f.file, "new-password-file", "",
		"protect "+what+" with the password on the first line of `FILE`; without it the password is asked for")
}

// newPassword reads or asks for the password.
func (a *app) newPassword(f *newPasswordFlag, what string) ([]byte, error) {
	if f.file != "" {
		text, err := inputfile.Read(f.file)
		if err != nil {
			return nil, usage(fmt.Errorf("--new-password-file: %w", err))
		}
		line, _, _ := strings.Cut(string(text), "\n")
		if line = strings.TrimSuffix(line, "\r"); line == "" {
			return nil, usage(fmt.Errorf("--new-password-file: the first line of %s is empty", f.file))
		}
		return []byte(line), nil
	}
	if !a.attended() {
		return nil, usage(fmt.Errorf("%s needs a password, and nobody is here to ask; give --new-password-file FILE",
			what))
	}
	first, err := a.ask(fmt.Sprintf("New password for %s: ", what))
	if err != nil {
		return nil, err
	}
	second, err := a.ask("The same once more: ")
	switch {
	case err != nil:
		return nil, err
	case first == "":
		return nil, usage(errors.New("an empty password protects nothing"))
	case first != second:
		return nil, usage(errors.New("the two passwords differ"))
	}
	return []byte(first), nil
}
