package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"nurvik/core/keystore"
	"nurvik/core/pbe"
	"nurvik/core/trust"
	"nurvik/internal/report"
)

// chainDifferences lists what two trust stores do not have in common.
func (a *app) chainDifferences() *cobra.Command {
	f := &materialFlags{}
	cmd := &cobra.Command{
		Use: "differences STORE STORE", Short: "List the roots that are in only one of two trust stores",
		Args: cobra.ExactArgs(2),
		Long: `Lists the anchors that only one of two trust stores holds, and those that are of
different kinds in them. Status 1 when there are differences.`,
		Example: "  nurvik chain differences system ./anchors",
		RunE: func(_ *cobra.Command, args []string) error {
			passwords, err := a.passwords(f)
			if err != nil {
				return err
			}
			loader := &trust.Loader{Opener: keystore.Opener{Passwords: passwords, Budget: &pbe.Budget{}}}
			var stores [2]*trust.Store
			for i, text := range args {
				var err error
				if stores[i], err = loader.Load(text); err != nil {
					return err
				}
			}
			d := report.NewStoreDifferences(args[0], args[1], trust.Compare(stores[0], stores[1]))
			err = a.write(report.StoreDifferences(d))
			if err == nil && !d.Same() {
				return &statusError{status: statusFindings}
			}
			if err != nil {
				return fmt.Errorf("write the result: %w", err)
			}
			return nil
		},
	}
	a.addOutput(cmd)
	a.addMaterial(cmd, f)
	return cmd
}
