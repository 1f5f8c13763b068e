package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"openbastion/core/explain"
	"openbastion/core/lab"
)

func (a *app) explain() *cobra.Command {
	return &cobra.Command{
		Use: "explain [WORD]", Short: "What a term or a claim means, in plain words",
		Args: cobra.ArbitraryArgs,
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			list := explain.Words
			if len(args) > 0 {
				name := strings.Join(args, " ")
				w, ok := explain.Find(name)
				if !ok {
					var known []string
					for _, k := range explain.Words {
						known = append(append(known, k.Name), k.Also...)
					}
					hint := "bastion explain lists all words"
					if near := lab.Nearest(strings.ToLower(name), known); near != "" {
						hint = "did you mean " + near + "?"
					}
					return failure{exitUsage, "nothing is known of " + name, hint}
				}
				list = []explain.Word{w}
			}
			if a.format == "json" {
				return a.json(struct {
					Schema string         `json:"schema"`
					Lab    *string        `json:"lab"`
					Words  []explain.Word `json:"words"`
				}{"openbastion.words/1", nil, list})
			}
			s := a.screen()
			for i, w := range list {
				if i > 0 {
					s.line()
				}
				s.line(s.paint(strong, w.Name), "  ", s.paint(faint, strings.Join(w.Also, ", ")))
				s.para(2, 0, plain, w.Text)
				if w.Real != "" {
					s.para(2, 0, faint, "In a real installation: "+w.Real)
				}
			}
			return nil
		},
	}
}
