package cli
import "github.com/spf13/cobra"
func (a *app) estateCommand() *cobra.Command { return &cobra.Command{Use:"estate"} }
func (a *app) runCommand() *cobra.Command { return &cobra.Command{Use:"run"} }
func (a *app) findingsCommand() *cobra.Command { return &cobra.Command{Use:"findings"} }
