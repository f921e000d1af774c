package web

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/core/judge"
	"nurvik/core/policy"
	"nurvik/core/strictyaml"
	"nurvik/internal/api"
	"nurvik/internal/service/store"
)

// policyName is the form of a policy's name.
var policyName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]*$`)

// changeByName is how a policy is removed.
type changeByName struct {
	Name    string `path:"name" minLength:"1" maxLength:"100" pattern:"^[a-z0-9][a-z0-9._-]*$"`
	IfMatch string `header:"If-Match" maxLength:"1000" doc:"The policy's tag in quotes; it is refused where the policy has another by now"`
}

func (s *server) registerPolicies() {
	huma.Register(s.api, operation("list-policies", "GET", "/policies", "List policies", "policies"),
		func(ctx context.Context, _ *struct{}) (*body[[]api.Policy], error) {
			list, err := s.Store.Policies(ctx)
			if err != nil {
				return nil, s.failure(err)
			}
			out := []api.Policy{}
			for _, p := range list {
				view, _, err := s.policyOf(ctx, p, 0)
				if errors.Is(err, store.ErrNotFound) { // removed since the list was read
					continue
				}
				if err != nil {
					return nil, s.failure(err)
				}
				out = append(out, view)
			}
			return &body[[]api.Policy]{out}, nil
		})
	type getInput struct {
		Name    string `path:"name" minLength:"1" maxLength:"100" pattern:"^[a-z0-9][a-z0-9._-]*$"`
		Version int    `query:"version" minimum:"1" doc:"An older version"`
	}
	huma.Register(s.api, operation("get-policy", "GET", "/policies/{name}", "One policy with its text", "policies",
		404),
		func(ctx context.Context, in *getInput) (*tagged[api.PolicyText], error) {
			text, err := s.policyText(ctx, in.Name, in.Version)
			if err != nil {
				return nil, s.failure(err)
			}
			return withTag(text.Tag, text), nil
		})
	type saveInput struct {
		Name    string `path:"name" minLength:"1" maxLength:"100" pattern:"^[a-z0-9][a-z0-9._-]*$"`
		IfMatch string `header:"If-Match" maxLength:"1000" doc:"The policy's tag in quotes; it is refused where the policy has another by now"`
		Body    api.PolicySave
	}
	save := operation("save-policy", "PUT", "/policies/{name}", "Keep a new version of a policy; errors name the line",
		"policies", 409, 412, 422)
	save.MaxBodyBytes = largeBody
	huma.Register(s.api, save, func(ctx context.Context, in *saveInput) (*tagged[api.PolicyText], error) {
		if details := policyDefects(in.Name, in.Body.Text); len(details) > 0 {
			return nil, invalid(details)
		}
		before, _ := s.policyText(ctx, in.Name, 0) // none, the first time
		told(ctx, in.Name, map[string]string{"text": before.Text}, map[string]string{"text": in.Body.Text})
		if _, err := s.Store.SavePolicy(ctx, in.Name, in.Body.Text, s.Now(), in.IfMatch); err != nil {
			return nil, s.failure(err)
		}
		text, err := s.policyText(ctx, in.Name, 0)
		if err != nil {
			return nil, s.failure(err)
		}
		s.Log.Info("policy saved", "policy", in.Name, "version", text.Version)
		return withTag(text.Tag, text), nil
	})
	huma.Register(s.api, operation("remove-policy", "DELETE", "/policies/{name}",
		"Remove a policy that nothing is assigned to", "policies", 404, 409, 412),
		func(ctx context.Context, in *changeByName) (*struct{}, error) {
			before, _ := s.policyText(ctx, in.Name, 0)
			told(ctx, in.Name, map[string]string{"text": before.Text}, nil)
			if err := s.Store.RemovePolicy(ctx, in.Name, in.IfMatch); err != nil {
				return nil, s.failure(err)
			}
			return nil, nil
		})
}

// policyDefects checks the text of a policy; each defect names its line.
func policyDefects(name, text string) []error {
	p, err := policy.Parse(name, []byte(text))
	if err == nil {
		err = judge.CheckPolicy(p)
	}
	if err == nil && p.Name != name {
		err = errors.New("the text says name: " + p.Name + ", and it is saved as " + name + "; make them the same")
	}
	var out []error
	for _, e := range flat(err) {
		var line *strictyaml.Error
		message := e.Error()
		if errors.As(e, &line) { // the name of the file is of no use here
			if message = line.Text; line.Line > 0 {
				message = fmt.Sprintf("line %d: %s", line.Line, line.Text)
			}
		}
		out = append(out, &huma.ErrorDetail{Message: message, Location: "body.text"})
	}
	return out
}

// flat takes joined errors apart.
func flat(err error) []error {
	if err == nil {
		return nil
	}
	if joined, ok := err.(interface{ Unwrap() []error }); ok {
		var out []error
		for _, e := range joined.Unwrap() {
			out = append(out, flat(e)...)
		}
		return out
	}
	return []error{err}
}

func (s *server) policyText(ctx context.Context, name string, version int) (api.PolicyText, error) {
	list, err := s.Store.Policies(ctx)
	if err != nil {
		return api.PolicyText{}, err
	}
	i := slices.IndexFunc(list, func(p store.Policy) bool { return p.Name == name })
	if i < 0 {
		return api.PolicyText{}, store.ErrNotFound
	}
	view, text, err := s.policyOf(ctx, list[i], version)
	return api.PolicyText{Policy: view, Text: text}, err
}

// policyOf is the view of a policy with its text.
func (s *server) policyOf(ctx context.Context, p store.Policy, version int) (api.Policy, string, error) {
	view := api.Policy{Name: p.Name, Tag: p.Tag(), Builtin: p.Builtin, Version: p.Version, UpdatedAt: p.UpdatedAt}
	uses, err := s.Store.PolicyUses(ctx)
	if err != nil {
		return view, "", err
	}
	view.Endpoints, view.Holdings = uses[p.Name].Endpoints, uses[p.Name].Holdings
	text := ""
	if p.Builtin {
		text, err = policy.BuiltinText(p.Name)
	} else {
		var v store.PolicyVersion
		v, err = s.Store.PolicyText(ctx, p.Name, version)
		text, view.Version = v.Text, v.Version
	}
	if err != nil {
		return view, "", err
	}
	if parsed, err := policy.Parse(p.Name, []byte(text)); err == nil {
		view.About = parsed.About
	}
	return view, text, nil
}
