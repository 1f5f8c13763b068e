package cli

import (
	"os"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){
		"bastion": func() { os.Exit(Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) },
	})
}

// Each script drives the built program on files in a folder of its own.
func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir: "testdata",
		// UPDATE=1 go test ./cli writes what the program says now into the scripts.
		UpdateScripts: os.Getenv("UPDATE") != "",
		Setup: func(e *testscript.Env) error {
			for _, d := range []string{"saltmarsh.yaml", "saltmarsh-leaky.yaml"} {
				data, err := os.ReadFile("../examples/" + d)
				if err == nil {
					err = os.WriteFile(e.WorkDir+"/"+d, data, 0o644)
				}
				if err != nil {
					return err
				}
			}
			return nil
		},
	})
}
