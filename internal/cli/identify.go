package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"nurvik/internal/report"
)

func (a *app) identifyCommand() *cobra.Command {
	var material materialFlags
	var long bool
	cmd := &cobra.Command{
		Use:     "identify PATH...",
		GroupID: "alone",
		Short:   "Say what is in files: certificates, keys, certificate requests (CSR) and more",
		Long: `Reads files, directories, archives or standard input (-) and says of each thing in
them what it is, whose, for which names, until when, with which key and from whom.

Contents decide, never names: PEM in all its spellings, DER, base64, PKCS#7,
PKCS#12, Java keystores, documents and environment files with PEM in their values,
zip and tar. Defects of the form are told with line and byte.

Exit status 0 when everything named was read, else 3.`,
		Example: `  nurvik identify /etc/ssl/harbour
  nurvik identify tides.pem --long
  nurvik identify keystore.p12 --password-file passwords.txt
  unzip -p from-the-issuer.zip | nurvik identify -`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.identify(cmd.Context(), &material, args, long)
		},
	}
	a.addOutput(cmd)
	a.addMaterial(cmd, &material)
	cmd.Flags().BoolVar(&long, "long", false, "show every field and extension, and defects that hurt nobody")
	return cmd
}

func (a *app) identify(ctx context.Context, material *materialFlags, paths []string, long bool) error {
	source, err := a.gather(ctx, material, paths, !long)
	if err != nil {
		return err
	}
	found := report.NewInventory(source, long)
	err = a.write(report.Identify(found, long, a.now()))
	return examined(ctx, err, len(source.Unexamined))
}

// examined ends a command that only tells.
func examined(ctx context.Context, err error, unexamined int) error {
	switch {
	case err != nil:
		return err
	case ctx.Err() != nil:
		return &statusError{statusUnexamined, errors.New("interrupted; what is shown was read until then")}
	case unexamined > 0:
		return &statusError{status: statusUnexamined}
	}
	return nil
}
