package cli

import (
	"context"
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"nurvik/internal/client"
	"nurvik/internal/settings"
)

// DefaultServer is where a service on this machine listens.
const DefaultServer = "http://127.0.0.1:8410"

func addServer(cmd *cobra.Command, server *string) {
	cmd.PersistentFlags().StringVar(server, "server", DefaultServer,
		"use the service at this `URL`; the token is that of \"nurvik login\", NURVIK_TOKEN or the configuration file")
}

// connect makes the client with the token of the configuration.
func (a *app) connect(server string) (*client.Client, error) {
	token := a.token
	if token == "" {
		all, err := settings.ReadCredentials(settings.CredentialsFile(a.configFile))
		if err != nil {
			return nil, usage(err)
		}
		token = all[strings.TrimSuffix(server, "/")].Token
	}
	c, err := client.New(server, token)
	if err != nil {
		return nil, usage(err)
	}
	return c, nil
}

// remote makes the body of a command that speaks to the service.
func (a *app) remote(server *string, work func(ctx context.Context, c *client.Client,
	args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		c, err := a.connect(*server)
		if err != nil {
			return err
		}
		return refused(work(cmd.Context(), c, args))
	}
}

// refused turns what the service refused as wrong into a wrong call.
func refused(err error) error {
	var status *statusError
	if err == nil || errors.As(err, &status) {
		return err
	}
	var p *client.Problem
	if errors.As(err, &p) && (p.Status == 409 || p.Status == 422 || p.Status == 400) {
		return usage(err)
	}
	if errors.Is(err, context.Canceled) {
		return &statusError{statusUnexamined, errors.New("interrupted")}
	}
	return err
}
