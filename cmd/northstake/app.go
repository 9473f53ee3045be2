package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
	"golang.org/x/term"

	"northstake/service/contract"
)

// app is what the commands share: where the service is, and how to print.
type app struct {
	server       string
	tokenFile    string
	allowProgram bool
	allowLinks   []string
	json         bool
	out          *paper

	token  string
	client *contract.ClientWithResponses
}

const defaultServer = "http://127.0.0.1:7311"

// clientFile holds the service's address and the token, for its owner alone.
type clientFile struct {
	Server string `toml:"server"`
	Token  string `toml:"token"`
}

func clientPath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "northstake", "client.toml"), nil
}

func readClientFile() (clientFile, error) {
	var c clientFile
	path, err := clientPath()
	if err != nil {
		return c, nil
	}
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err != nil {
		return c, err
	}
	if err := toml.Unmarshal(b, &c); err != nil {
		return c, fmt.Errorf("%s: %w", path, err)
	}
	return c, nil
}

// api connects to the service, once.
func (a *app) api() (*contract.ClientWithResponses, error) {
	if a.client != nil {
		return a.client, nil
	}
	file, err := readClientFile()
	if err != nil {
		return nil, err
	}
	if a.server == "" {
		a.server = file.Server
	}
	if a.server == "" {
		a.server = defaultServer
	}
	a.server = strings.TrimSuffix(a.server, "/")
	switch {
	case a.tokenFile != "":
		b, err := os.ReadFile(a.tokenFile)
		if err != nil {
			return nil, fmt.Errorf("read the token: %w", err)
		}
		a.token = strings.TrimSpace(string(b))
	case os.Getenv("NORTHSTAKE_TOKEN") != "":
		a.token = os.Getenv("NORTHSTAKE_TOKEN")
	default:
		a.token = file.Token
	}
	a.client, err = contract.NewClientWithResponses(a.server+"/api/v1", contract.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		a.sign(r)
		return nil
	}))
	return a.client, err
}

func (a *app) sign(r *http.Request) {
	if a.token != "" {
		r.Header.Set("Authorization", "Bearer "+a.token)
	}
}

// failed is a request that the service refused.
type failed struct{ contract.Problem }

func (f failed) Error() string {
	var b strings.Builder
	b.WriteString(f.Title)
	if f.Detail != "" && f.Detail != f.Title {
		b.WriteString(": " + strings.TrimSpace(f.Detail))
	}
	for _, p := range f.Problems {
		b.WriteString("\n" + p.Draw())
	}
	if f.Fix != "" {
		b.WriteString("\n  " + f.Fix)
	}
	return b.String()
}

// response is what the generated client returns.
type response interface {
	GetBody() []byte
	StatusCode() int
	Status() string
}

// answered turns a response into an error unless the service did what it was
// asked.
func (a *app) answered(res response, err error) error {
	if err != nil {
		return fmt.Errorf("the service at %s does not answer: %w\n  check that northstaked runs there, or name another with --server", a.server, err)
	}
	if res.StatusCode() < 300 {
		return nil
	}
	var p contract.Problem
	if json.Unmarshal(res.GetBody(), &p) == nil && p.Title != "" {
		return failed{p}
	}
	return fmt.Errorf("the service answered %s", res.Status())
}

// follow waits for the end of a record's stream.
func (a *app) follow(ctx context.Context, path string, each func(contract.StreamEvent) error) error {
	return a.followAfter(ctx, path, 0, each)
}

func (a *app) followAfter(ctx context.Context, path string, after int64, each func(contract.StreamEvent) error) error {
	return contract.Follow(ctx, http.DefaultClient, a.server+"/api/v1"+path, after, a.sign, 3*time.Minute, each)
}

// print prints a record as JSON when that was asked for.
func (a *app) print(v any) (bool, error) {
	if !a.json {
		return false, nil
	}
	enc := json.NewEncoder(a.out.w)
	enc.SetIndent("", "  ")
	return true, enc.Encode(v)
}

// ground finds the ground that is meant: the one named, the one of the
// declaration in this directory, or the only one that the service has.
func (a *app) ground(ctx context.Context, args []string) (string, error) {
	if len(args) > 0 {
		if strings.ContainsAny(args[0], "/.") {
			return "", fmt.Errorf("%q is not the name of a ground\n  leave it out where the declaration lies, or give the name that [ground] has", args[0])
		}
		return args[0], nil
	}
	names, err := a.grounds(ctx)
	if err != nil {
		return "", err
	}
	if len(names) > 1 {
		return "", fmt.Errorf("say which ground is meant: %s", strings.Join(names, ", "))
	}
	return names[0], nil
}

// grounds lists the grounds that can be meant where none is named: that of the
// declaration in this directory, or else all that the service has, at least one.
func (a *app) grounds(ctx context.Context) ([]string, error) {
	if name := groundHere("."); name != "" {
		return []string{name}, nil
	}
	api, err := a.api()
	if err != nil {
		return nil, err
	}
	res, err := api.ListGroundsWithResponse(ctx)
	if err := a.answered(res, err); err != nil {
		return nil, err
	}
	if len(*res.JSON200) == 0 {
		return nil, errors.New("the service has no ground yet: northstake declare DIR sends one")
	}
	var names []string
	for _, g := range *res.JSON200 {
		names = append(names, g.Name)
	}
	return names, nil
}

// groundWith finds the ground of a host, plan or run: the one named, or the only one
// that can be meant and has it. The function asks a ground for it.
func (a *app) groundWith(ctx context.Context, named, what string, ask func(ground string) (response, error)) (string, error) {
	if named != "" {
		return a.ground(ctx, []string{named})
	}
	names, err := a.grounds(ctx)
	if err != nil || len(names) == 1 {
		return strings.Join(names, ""), err
	}
	var having []string
	for _, name := range names {
		res, err := ask(name)
		if err == nil && res.StatusCode() == http.StatusNotFound {
			continue
		}
		if err := a.answered(res, err); err != nil {
			return "", err
		}
		having = append(having, name)
	}
	switch len(having) {
	case 0:
		return "", fmt.Errorf("no ground has %s: the service has the grounds %s", what, strings.Join(names, ", "))
	case 1:
		return having[0], nil
	}
	return "", fmt.Errorf("say with --ground which ground is meant: %s", strings.Join(having, ", "))
}

// groundOfHosts finds the ground of the hosts that words choose.
func (a *app) groundOfHosts(ctx context.Context, named string, words []string) (string, error) {
	return a.groundWith(ctx, named, fmt.Sprintf("a host that is meant by %q", strings.Join(words, " ")), func(ground string) (response, error) {
		return a.client.GetGroundWithResponse(ctx, ground, &contract.GetGroundParams{On: words})
	})
}

// groundOn finds the ground that is named, or else that of the hosts that words choose.
func (a *app) groundOn(ctx context.Context, args, hosts []string) (string, error) {
	if len(args) == 0 && len(hosts) > 0 {
		return a.groundOfHosts(ctx, "", hosts)
	}
	return a.ground(ctx, args)
}

// groundOfSite finds the ground of a site, or of a host, by its name.
func (a *app) groundOfSite(ctx context.Context, named, word string) (string, error) {
	site, _ := strings.CutPrefix(word, "site:")
	host, _ := strings.CutPrefix(word, "host:")
	return a.groundWith(ctx, named, fmt.Sprintf("a site or a host %q", word), func(ground string) (response, error) {
		if !strings.HasPrefix(word, "host:") {
			if res, err := a.client.GetSiteWithResponse(ctx, ground, site); err != nil || res.StatusCode() != http.StatusNotFound {
				return res, err
			}
		}
		return a.client.GetHostWithResponse(ctx, ground, host)
	})
}

// groundOfPlan finds the ground of a plan.
func (a *app) groundOfPlan(ctx context.Context, named string, id int64) (string, error) {
	return a.groundWith(ctx, named, fmt.Sprintf("plan %d", id), func(ground string) (response, error) {
		return a.client.GetPlanWithResponse(ctx, ground, id)
	})
}

// groundOfRun finds the ground of a run.
func (a *app) groundOfRun(ctx context.Context, named string, id int64) (string, error) {
	return a.groundWith(ctx, named, fmt.Sprintf("run %d", id), func(ground string) (response, error) {
		return a.client.GetRunWithResponse(ctx, ground, id)
	})
}

// confirm asks a yes-or-no question on the terminal, until it is answered.
func confirm(question string) (bool, error) {
	for {
		line, err := ask(question + " [y/n]")
		if err != nil {
			return false, err
		}
		switch strings.ToLower(line) {
		case "y", "yes":
			return true, nil
		case "n", "no":
			return false, nil
		}
		question = "please answer y or n:"
	}
}

// ask asks for a line on the terminal.
func ask(question string) (string, error) {
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return "", errors.New("there is no terminal to ask on: give --yes")
	}
	fmt.Fprintf(stderr, "%s ", question)
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	return strings.TrimSpace(line), err
}

// askPassword reads a password from the terminal without showing it.
func askPassword(prompt string) (string, error) {
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return "", errors.New("there is no terminal to ask for a password on; keep it as a secret, and name that with sudo_secret")
	}
	fmt.Fprintf(stderr, "%s: ", prompt)
	b, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(stderr)
	return string(b), err
}

// withPasswords repeats a request with passwords for sudo when the service says
// that hosts ask for them. They are never stored.
func withPasswords(do func(contract.SudoPasswords) error) error {
	err := do(nil)
	var f failed
	if !errors.As(err, &f) || f.Type != "/problems/sudo-password" {
		return err
	}
	given := contract.SudoPasswords{}
	for _, host := range f.Missing {
		p, err := askPassword("password for sudo on " + host)
		if err != nil {
			return err
		}
		given[host] = p
	}
	return do(given)
}
