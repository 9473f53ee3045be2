package main

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"
)

// scope is what the commands that look at hosts can be narrowed to.
type scope struct {
	hosts []string
	dir   string
}

func (s *scope) flags(cmd *cobra.Command) {
	cmd.Flags().StringSliceVar(&s.hosts, "on", nil, "only these hosts: names, patterns such as quay*, label:WORD, kit:NAME or site:NAME")
}

func number(s, what string) (int64, error) {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 1 {
		return 0, fmt.Errorf("%q is not the number of a %s", s, what)
	}
	return n, nil
}
