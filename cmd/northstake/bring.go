package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"
	"github.com/spf13/cobra"

	"northstake/core/declare"
	"northstake/service/contract"
)

// keptFile is where one-offs that are to be kept are written.
const keptFile = "brought.toml"

type bringing struct {
	scope
	ground  string
	yes     bool
	details bool
	write   string
}

func (b *bringing) flags(cmd *cobra.Command) {
	b.scope.flags(cmd)
	f := cmd.Flags()
	f.StringVar(&b.ground, "ground", "", "ground of the hosts")
	f.BoolVar(&b.yes, "yes", false, "do not ask")
	f.BoolVar(&b.details, "details", false, "show all of every difference")
	f.StringVar(&b.write, "write", "", "write what was brought about into the declaration in this directory, as "+keptFile)
}

func bringCommand(a *app) *cobra.Command {
	cmd := &cobra.Command{
		Use: "bring", Short: "Bring one thing about on chosen hosts without writing files: a package, a service, a port, a file, …",
		Long: `Bring one thing about on chosen hosts without writing files. It is checked, planned,
run and recorded like what is declared: on one host first, say, and then on many.

What was brought about and is not declared is found as stray later; what was taken away
by --gone leaves nothing to find, and nobody is told when it comes back. --write DIR writes
it into the declaration there.`,
	}
	own := []*cobra.Command{bringPackage(a), bringService(a), bringPort(a), bringFile(a), bringContent(a)}
	cmd.AddCommand(own...)
	cmd.AddCommand(bringAny(a, own)...)
	return cmd
}

func bringPackage(a *app) *cobra.Command {
	var b bringing
	var version, atLeast string
	var gone, newest bool
	cmd := &cobra.Command{Use: "package NAME", Short: "A package, installed or gone", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			keys := map[string]any{}
			set(keys, "version", version)
			set(keys, "at_least", atLeast)
			switch {
			case gone:
				keys["is"] = "gone"
			case newest:
				keys["is"] = "newest"
			}
			return a.bring(cmd.Context(), b, "package", args[0], keys, nil)
		}}
	b.flags(cmd)
	cmd.Flags().StringVar(&version, "version", "", "exactly this version")
	cmd.Flags().StringVar(&atLeast, "at-least", "", "this version or a newer one")
	cmd.Flags().BoolVar(&newest, "newest", false, "the newest version that the sources offer")
	cmd.Flags().BoolVar(&gone, "gone", false, "removed")
	return cmd
}

func set(keys map[string]any, key, value string) {
	if value != "" {
		keys[key] = value
	}
}

func bringService(a *app) *cobra.Command {
	var b bringing
	var running, stopped, atBoot, notAtBoot bool
	cmd := &cobra.Command{Use: "service NAME", Short: "A service, running or stopped, at boot or not", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			keys := map[string]any{}
			if running != stopped {
				keys["running"] = running
			}
			if atBoot != notAtBoot {
				keys["at_boot"] = atBoot
			}
			if len(keys) == 0 {
				return errors.New("say how it should be: --running or --stopped, --at-boot or --not-at-boot")
			}
			return a.bring(cmd.Context(), b, "service", args[0], keys, nil)
		}}
	b.flags(cmd)
	cmd.Flags().BoolVar(&running, "running", false, "it runs")
	cmd.Flags().BoolVar(&stopped, "stopped", false, "it does not run")
	cmd.Flags().BoolVar(&atBoot, "at-boot", false, "it starts at boot")
	cmd.Flags().BoolVar(&notAtBoot, "not-at-boot", false, "it does not start at boot")
	return cmd
}

func bringPort(a *app) *cobra.Command {
	var b bringing
	var from []string
	cmd := &cobra.Command{Use: "port PORTS", Short: "An open port, such as 443/tcp, or ports such as 8000-8100/udp", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			keys := map[string]any{}
			if len(from) > 0 {
				keys["from"] = from
			}
			return a.bring(cmd.Context(), b, "port", args[0], keys, nil)
		}}
	b.flags(cmd)
	cmd.Flags().StringSliceVar(&from, "from", nil, "networks from which alone it can be reached")
	return cmd
}

func bringFile(a *app) *cobra.Command {
	var b bringing
	var from, text, owner, group, mode string
	var gone bool
	var reload []string
	cmd := &cobra.Command{Use: "file PATH", Short: "A text file, or a file or link gone", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			keys := map[string]any{}
			if len(reload) > 0 {
				keys["reload"] = reload
			}
			if gone {
				if from+text+owner+group+mode != "" {
					return errors.New("a file that is gone has no text, owner, group or mode: give --gone, or those")
				}
				keys["is"] = "gone"
				return a.bring(cmd.Context(), b, "file", args[0], keys, nil)
			}
			if (from == "") == (text == "") {
				return errors.New("give its text, --from FILE or --text TEXT; or --gone")
			}
			if from != "" {
				content, err := os.ReadFile(from)
				if err != nil {
					return err
				}
				if !utf8.Valid(content) {
					return fmt.Errorf("%s is not text in UTF-8: declare it as a file with from, or publish its directory with northstake bring content", from)
				}
				text = string(content)
			}
			keys["text"] = text
			set(keys, "owner", owner)
			set(keys, "group", group)
			set(keys, "mode", mode)
			return a.bring(cmd.Context(), b, "file", args[0], keys, nil)
		}}
	b.flags(cmd)
	cmd.Flags().StringVar(&from, "from", "", "file that holds its text")
	cmd.Flags().StringVar(&text, "text", "", "its text")
	cmd.Flags().StringVar(&owner, "owner", "", "user that owns it")
	cmd.Flags().StringVar(&group, "group", "", "group of it")
	cmd.Flags().StringVar(&mode, "mode", "", "mode in octal")
	cmd.Flags().BoolVar(&gone, "gone", false, "taken away, whoever put it there")
	cmd.Flags().StringSliceVar(&reload, "reload", nil, "services that reload when it has changed")
	return cmd
}

func bringContent(a *app) *cobra.Command {
	var b bringing
	var from, owner string
	cmd := &cobra.Command{Use: "content PATH --from DIR", Short: "The files of a directory, published at a path as a whole", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if from == "" {
				return errors.New("give the directory whose files are published: --from DIR")
			}
			keys := map[string]any{"dir": "brought/" + plainWord(filepath.Base(absolute(from)))}
			set(keys, "owner", owner)
			return a.bring(cmd.Context(), b, "content", args[0], keys, &from)
		}}
	b.flags(cmd)
	cmd.Flags().StringVar(&from, "from", "", "directory whose files are published")
	cmd.Flags().StringVar(&owner, "owner", "", "user that owns the files")
	return cmd
}

// bring plans one thing on the hosts that are chosen, shows it, and does it on a
// yes. Dir is the directory of content.
func (a *app) bring(ctx context.Context, b bringing, sort, name string, keys map[string]any, dir *string) error {
	if len(b.hosts) == 0 {
		return errors.New("say on which hosts: --on HOST, or --on '*' for all")
	}
	g, err := a.groundOfHosts(ctx, b.ground, b.hosts)
	if err != nil {
		return err
	}
	api, err := a.api()
	if err != nil {
		return err
	}
	res, err := api.GetGroundWithResponse(ctx, g, &contract.GetGroundParams{On: b.hosts})
	if err := a.answered(res, err); err != nil {
		return err
	}
	hosts := map[string]any{}
	for _, h := range res.JSON200.Hosts {
		hosts[h.Name] = map[string]any{sort: map[string]any{name: keys}}
	}
	text, err := toml.Marshal(map[string]any{"host": hosts})
	if err != nil {
		return err
	}
	var kept keptText
	if b.write != "" { // before anything changes on a host
		if kept, err = a.tryKeep(ctx, b.write, hosts, dir, keys); err != nil {
			return err
		}
	}
	ask := contract.Ask{Hosts: b.hosts, OneOff: contract.OneOff{Text: string(text)}}
	if dir != nil {
		if ask.OneOff.Files, err = a.sendDir(ctx, *dir, keys["dir"].(string)); err != nil {
			return err
		}
	}
	if _, err := a.planAndApply(ctx, g, ask, b.yes, b.details); err != nil {
		return err
	}
	if b.write == "" {
		return nil
	}
	return a.keepBrought(ctx, b.write, kept)
}

// sendDir gives the files of a directory to the service, and lists them below a
// name.
func (a *app) sendDir(ctx context.Context, dir, below string) ([]declare.File, error) {
	m := &declare.Manifest{}
	if err := listBelow(dir, dir, m); err != nil {
		return nil, err
	}
	sums := map[string]string{}
	for i := range m.Files {
		f := &m.Files[i]
		path := filepath.Join(dir, filepath.FromSlash(f.Path))
		sum, size, err := hashFile(path)
		if err != nil {
			return nil, err
		}
		f.SHA256, f.Size, sums[sum] = sum, size, path
		f.Path = below + "/" + f.Path
	}
	return m.Files, a.sendBlobs(ctx, sums)
}

// keptText is the file of a declaration that keeps what was brought about, as it is and as
// it is to be.
type keptText struct {
	path          string
	before, after []byte
}

// write writes the file as it is to be, or as it was.
func (k keptText) write(text []byte) error {
	if text == nil {
		if err := os.Remove(k.path); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		return nil
	}
	return os.WriteFile(k.path, text, 0o644)
}

// tryKeep adds what is brought about to what was before, what was kept of the same thing
// making way, and checks the declaration with it. Nothing is changed but that a directory
// of content is copied.
func (a *app) tryKeep(ctx context.Context, to string, hosts map[string]any, dir *string, keys map[string]any) (k keptText, err error) {
	k.path = filepath.Join(to, keptFile)
	if k.before, err = os.ReadFile(k.path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return k, err
	}
	all := map[string]any{}
	if err := toml.Unmarshal(k.before, &all); err != nil {
		return k, fmt.Errorf("%s: %w", k.path, err)
	}
	merge(all, map[string]any{"host": hosts})
	text, err := toml.Marshal(all)
	if err != nil {
		return k, err
	}
	k.after = append([]byte("# What was brought about without files, and kept: northstake bring … --write\n\n"), text...)
	if dir != nil {
		into := filepath.Join(to, filepath.FromSlash(keys["dir"].(string)))
		if err := os.RemoveAll(into); err != nil {
			return k, err
		}
		if err := os.CopyFS(into, os.DirFS(*dir)); err != nil {
			return k, fmt.Errorf("keep the content: %w", err)
		}
	}
	if err := k.write(k.after); err != nil {
		return k, err
	}
	done := untilLeft(func() { k.write(k.before) })
	defer func() {
		if done() {
			if e := k.write(k.before); err == nil {
				err = e
			}
		}
	}()
	unpacked, remove, err := unpackedDir()
	if err != nil {
		return k, err
	}
	defer remove()
	if _, _, _, err := lintGround(ctx, a.programs(), to, unpacked); err != nil {
		return k, a.showProblems(err)
	}
	return k, nil
}

// merge adds one tree of tables to another. A table of one stake, three keys down, takes
// the place of what was there.
func merge(into, from map[string]any) { mergeDown(into, from, 0) }

func mergeDown(into, from map[string]any, depth int) {
	const stakeDepth = 3 // host, its name, the kind
	for k, v := range from {
		below, ok := v.(map[string]any)
		there, ok2 := into[k].(map[string]any)
		if ok && ok2 && depth < stakeDepth {
			mergeDown(there, below, depth+1)
			continue
		}
		into[k] = v
	}
}

// keepBrought writes what was brought about into a declaration and gives that to the
// service.
func (a *app) keepBrought(ctx context.Context, to string, k keptText) error {
	if err := k.write(k.after); err != nil {
		return err
	}
	r, _, name, err := a.declare(ctx, to)
	if err != nil {
		return errors.Join(a.showProblems(err), k.write(k.before))
	}
	if !a.json {
		a.out.line("kept in %s; ground %s, revision %d", k.path, name, r.Number)
	}
	return nil
}
