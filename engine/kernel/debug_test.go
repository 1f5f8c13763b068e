//go:build linux

package kernel

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openbastion/core/claims"
	"openbastion/core/lab"
	"openbastion/core/plan"
)

func TestDebug(t *testing.T) {
	text, err := os.ReadFile(os.Getenv("LABFILE"))
	require.NoError(t, err)
	l, err := lab.Read("x", text)
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	for range 6 {
		k, err := Up(t.Context(), p, Options{})
		require.NoError(t, err)
		doc, _, err := claims.Run(t.Context(), p, k)
		require.NoError(t, err)
		bad := false
		for _, c := range doc.Claims {
			if strings.HasPrefix(c.ID, os.Getenv("CLAIM")) && c.Verdict != "holds" {
				fmt.Println(c.ID, c.Verdict, c.Saw)
				bad = true
			}
		}
		if bad {
			for m, x := range k.machines {
				fmt.Println("=====", m.Name)
				_ = x.space.Do(func() error {
					out, _ := exec.Command("sh", "-c", os.Getenv("SHOW")).CombinedOutput()
					fmt.Println(string(out))
					return nil
				})
			}
			k.Down()
			return
		}
		k.Down()
	}
}
