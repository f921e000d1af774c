package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nurvik/core/proposal"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/report"
)

// searchLook is how often the progress of a search is asked for.
const searchLook = time.Second

func (a *app) estateSearch(server *string) *cobra.Command {
	var in api.SearchStart
	var ports []uint
	var all bool
	var cancel int64
	cmd := &cobra.Command{
		Use: "search [NETWORK...]", Short: "Search networks for endpoints that the estate lacks",
		Long: `Has the service connect to every address of the networks, and proposes what answers TLS: see
"nurvik estate proposals". Only networks with which nurvikd was started (--search-network) can be
searched. Without arguments it lists those, and the searches until now. An interrupt leaves the
search running.`,
		Example: `  nurvik estate search
  nurvik estate search 10.20.0.0/24 --port 443 --port 8443
  nurvik estate search --all
  nurvik estate search --cancel 7`,
	}
	cmd.RunE = a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
		for _, p := range ports {
			if p == 0 || p > 65535 {
				return usage(fmt.Errorf("%d is no port: write a number from 1 to 65535", p))
			}
			in.Ports = append(in.Ports, uint16(p))
		}
		start := all || len(args) > 0
		switch {
		case cancel != 0 && (start || len(ports) > 0):
			return usage(errors.New("--cancel goes with nothing else"))
		case all && len(args) > 0:
			return usage(errors.New("name networks, or use --all, not both"))
		case len(ports) > 0 && !start:
			return usage(errors.New("--port goes with networks, or with --all"))
		case cancel != 0:
			search, err := c.CancelSearch(ctx, cancel)
			if err != nil {
				return err
			}
			return a.write(say(search, searchLine(search)))
		case !start:
			list, err := c.Searches(ctx)
			if err != nil {
				return err
			}
			return a.write(say(list, searchLines(list)...))
		}
		in.Networks = args
		search, err := c.StartSearch(ctx, in)
		if err != nil {
			return err
		}
		return a.followSearch(ctx, c, search)
	})
	a.addOutput(cmd)
	cmd.Flags().UintSliceVar(&ports, "port", nil, "search this `PORT` alone; repeat for more")
	cmd.Flags().BoolVar(&all, "all", false, "search all networks that may be searched")
	cmd.Flags().Int64Var(&cancel, "cancel", 0, "cancel the search with this `NUMBER`; what it found stays")
	return cmd
}

// followSearch shows progress until the search has ended.
func (a *app) followSearch(ctx context.Context, c *client.Client, search api.Search) (err error) {
	step, finish := a.progress(search.Size, fmt.Sprintf("search %d", search.ID))
	for search.State == "searching" && err == nil {
		select {
		case <-ctx.Done():
			err = ctx.Err()
		case <-time.After(searchLook):
			var now api.Search
			if now, err = c.Search(ctx, search.ID); err == nil {
				search = now
			}
		}
		if step != nil {
			step(search.Done, search.Size)
		}
	}
	finish()
	if errors.Is(err, context.Canceled) {
		return &statusError{statusUnexamined, fmt.Errorf("search %d goes on without you; see \"nurvik estate "+
			"search\", and cancel it with \"nurvik estate search --cancel %d\"", search.ID, search.ID)}
	}
	if err != nil {
		return err
	}
	if err := a.write(say(search, searchLine(search))); err != nil {
		return err
	}
	if search.State != "finished" {
		return &statusError{statusUnexamined, fmt.Errorf("search %d is %s", search.ID, search.State)}
	}
	return nil
}

func searchLines(list api.Searches) []string {
	if len(list.Allowed) == 0 {
		return []string{"No network may be searched: start nurvikd with --search-network NETWORK, such as " +
			"10.20.0.0/24."}
	}
	lines := []string{"These may be searched: " + rangeWords(list.Allowed)}
	for _, s := range list.Items {
		lines = append(lines, searchLine(s))
	}
	return lines
}

func searchLine(s api.Search) string {
	line := fmt.Sprintf("search %d, %s by %s, %s: %s", s.ID, s.CreatedAt.UTC().Format("2006-01-02 15:04 UTC"), s.By,
		rangeWords(s.Ranges), s.State)
	switch {
	case s.State == "failed":
		line += ": " + s.Failure
	case s.Done < s.Size:
		line += fmt.Sprintf(", %d of %d looked at", s.Done, s.Size)
	}
	if s.Done == 0 {
		return line
	}
	return line + fmt.Sprintf("; %s TLS, %d something else; \"nurvik estate proposals\" lists what the estate lacks",
		report.Plural(s.Found, "place")+" answered", s.Others)
}

// rangeWords say which networks and ports: those with the same ports together.
func rangeWords(list proposal.Ranges) string {
	var words []string
	for i := 0; i < len(list); {
		var networks []string
		first := list[i]
		for ; i < len(list) && slices.Equal(list[i].Ports, first.Ports); i++ {
			networks = append(networks, list[i].Network.String())
		}
		words = append(words, strings.Join(networks, ", ")+" on port "+first.PortList())
	}
	return strings.Join(words, "; ")
}
