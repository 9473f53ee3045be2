package main

import (
	"fmt"
	"reflect"
	"strings"

	"github.com/spf13/cobra"

	"northstake/core/declare"
)

// bringAny are the commands for kinds that have none with words of their own: an
// option for each key of their table.
func bringAny(a *app, own []*cobra.Command) []*cobra.Command {
	var out []*cobra.Command
	keys := declare.Keys()
	for _, s := range declare.AllSettings() {
		known := false
		for _, c := range own {
			known = known || c.Name() == s.Key || c.Name()+"s" == s.Key
		}
		if !known && s.Each != "" && !s.Type.Elem().Implements(reflect.TypeFor[declare.NeedsText]()) {
			out = append(out, bringKind(a, s, keys))
		}
	}
	return out
}

func bringKind(a *app, s declare.Setting, all []declare.Key) *cobra.Command {
	var b bringing
	var given []func(keys map[string]any)
	cmd := &cobra.Command{Use: s.Key + " " + s.Each, Short: s.About[:strings.IndexAny(s.About+":", ".:")], Args: cobra.ExactArgs(1)}
	b.flags(cmd)
	for _, k := range all {
		word, ours := strings.CutPrefix(k.Name, "kit.NAME."+s.Key+"."+s.Each+".")
		if !ours || strings.Contains(word, ".") {
			continue
		}
		flag, about := strings.ReplaceAll(word, "_", "-"), strings.ToLower(k.About[:1])+strings.TrimSuffix(k.About[1:], ".")
		if len(k.Values) > 0 {
			about += ": " + strings.Join(k.Values, ", ")
		}
		switch k.Holds {
		case "true or false":
			v := cmd.Flags().Bool(flag, false, about)
			given = append(given, func(keys map[string]any) {
				if cmd.Flags().Changed(flag) {
					keys[word] = *v
				}
			})
		case "text":
			v := cmd.Flags().String(flag, "", about)
			given = append(given, func(keys map[string]any) { set(keys, word, *v) })
		case "a list of text":
			v := cmd.Flags().StringSlice(flag, nil, about)
			given = append(given, func(keys map[string]any) {
				if len(*v) > 0 {
					keys[word] = *v
				}
			})
		}
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		keys := map[string]any{}
		for _, take := range given {
			take(keys)
		}
		return a.bring(cmd.Context(), b, s.Key, args[0], keys, nil)
	}
	cmd.Long = fmt.Sprintf("%s\n\nnorthstake help host.%s says more of each option.", s.About, s.Key)
	return cmd
}
