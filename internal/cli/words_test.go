package cli

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/draft"
	"openbastion/internal/model/lab"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/explain"
	"openbastion/profiles"
)

// run calls the program and gives what it prints on both.
func run(args ...string) string {
	var out bytes.Buffer
	Main(args, strings.NewReader(""), &out, &out)
	return out.String()
}

// exampleLabs leaves the sample lab, its leaky twin and every shape in a folder
// and returns their files.
func exampleLabs(t *testing.T) []string {
	dir := t.TempDir()
	t.Chdir(dir)
	run("demo", "--dir", ".")
	files := []string{"saltmarsh.yaml", "saltmarsh-leaky.yaml"}
	for i, s := range draft.Shapes {
		file := s.Name + ".yaml"
		kind := profiles.Names()[i%len(profiles.Names())]
		run(
			"new",
			"bench",
			"--shape",
			s.Name,
			"--profile",
			kind,
			"--benches",
			"3",
			"--no-survey",
			"--yes",
			"--to",
			file,
		)
		require.FileExists(t, file)
		files = append(files, file)
	}
	return files
}

// outputs returns what every command says of a lab, by command.
func outputs(file string) map[string]string {
	out := map[string]string{}
	for _, call := range []string{
		"plan F", "plan F --form markdown", "check F", "rehearse F --verbose", "rehearse F", "draw F --form text", "map F",
		"runbook F", "runbook F --wording server --form markdown", "runbook F --wording kernel --form html", "trace F outside gate tcp/443",
		"export F --kind hosts",
	} {
		args := strings.Fields(call)
		args[1] = file
		out[call] = run(args...)
	}
	return out
}

// helps returns every command's help.
func helps() map[string]string {
	out := map[string]string{}
	var each func(c *cobra.Command)
	each = func(c *cobra.Command) {
		args := append(strings.Fields(c.CommandPath())[1:], "--help")
		out[c.CommandPath()] = run(args...)
		for _, sub := range c.Commands() {
			each(sub)
		}
	}
	each(Commands())
	return out
}

// retired are words that one thing was called by before it had one name, and
// forms of the program's own that say nothing to a person.
var retired = regexp.MustCompile(
	`(?i)to mend it|\bbuilt so\b|what you see|it shows:|\btry: |to let it pass|\b0 unknown|\(Success\)|h0m0s|m0s\b|` +
		`internal network|internal switch|first-run|[0-9]{7,}KiB|none to none|Available Commands|for more information about|` +
		`hardware addresse?s?\b|lease servers?\b|lease services?\b|hands? out leases|\bwhom\b|\banew\b|is luck\b|\bamiss\b|` +
		`may be said again|when absent|called otherwise|Called as|Such as$|past every appliance|\b1 (rules|guests|errors|checks)\b`,
)

// inner are values as the program's language writes them.
var inner = regexp.MustCompile(`%!|<nil>|\[\]|\[[0-9]+\.[0-9.]+\]|map\[`)

// every word and code that an output asks a person to look up is known, and no
// retired word is in any.
func TestOneVocabulary(t *testing.T) {
	t.Setenv("COLUMNS", "100")
	asked := regexp.MustCompile("bastion explain ([a-z][a-z0-9-]+)")
	look := func(where, text string) {
		found := retired.FindString(text)
		if found == "" && !strings.HasSuffix(where, ".md") { // a page may show a lab file
			found = inner.FindString(text)
		}
		if found != "" {
			at := strings.Index(text, found)
			t.Errorf("%s: %q in …%s…", where, found, text[max(0, at-60):min(len(text), at+60)])
		}
		for _, m := range asked.FindAllStringSubmatch(text, -1) {
			_, term := explain.Find(m[1])
			_, finding := check.Lookup(m[1])
			assert.True(t, term || finding, "%s sends to `bastion explain %s`, which knows nothing", where, m[1])
		}
	}
	root, err := filepath.Abs("../..")
	require.NoError(t, err)
	for _, file := range exampleLabs(t) {
		for call, text := range outputs(file) {
			look(call+" of "+file, text)
		}
	}
	for name, text := range helps() {
		look(name, text)
	}
	for _, page := range []string{"README.md", "docs/findings.md", "docs/architecture.md"} {
		data, err := os.ReadFile(filepath.Join(root, page))
		require.NoError(t, err)
		look(page, string(data))
	}
	known := append(
		[]string{
			"buoy",
			"lighthouse",
			"leg",
			"uplink",
			"reach",
			"claim",
			"profile",
			"wording",
			"*",
			"?",
			"✓",
			"✗",
			"tail",
			"dashed line",
			"remedy",
			"you would see",
		},
		"witness",
		"beyond",
		"evidence",
		"verdict",
		"finding",
		"escape",
		"stage",
		"device",
		"listing",
	)
	for _, k := range claims.Kinds {
		known = append(known, string(k))
	}
	for _, name := range known {
		_, term := explain.Find(name)
		_, finding := check.Lookup(name)
		assert.True(t, term || finding, "explain does not know %s", name)
	}
	for _, w := range explain.Words() {
		look("explain "+w.Name, w.Text+" "+w.Real)
		for i, other := range explain.Words() {
			assert.False(t, other.Name > w.Name && i == 0, "words are in order")
		}
	}
}

// Help fits a terminal of 80 columns.
func TestHelpsAreNarrow(t *testing.T) {
	t.Setenv("COLUMNS", "200")
	for name, text := range helps() {
		for _, l := range strings.Split(text, "\n") {
			assert.NotContains(t, l, `\n`, name)
			if !strings.HasPrefix(l, "  bastion ") { // a call is not broken
				assert.LessOrEqual(t, width(l), 80, "%s: %s", name, l)
			}
		}
	}
}

// Every table of every example keeps within the screen and under its headings,
// at any width.
func TestTablesFit(t *testing.T) {
	files := exampleLabs(t)
	for _, columns := range []int{60, 80, 100, 200} {
		t.Setenv("COLUMNS", strconv.Itoa(columns))
		for _, file := range files {
			p, err := (&app{}).load(file)
			require.NoError(t, err)
			for _, part := range planParts {
				for _, section := range part.tables(p) {
					var b bytes.Buffer
					s := newScreen(&b, "never")
					s.table(section.table)
					where := fmt.Sprintf("%s of %s at %d:\n%s", section.title, file, columns, b.String())
					checkTable(t, where, b.String(), section.table, s.width)
				}
			}
		}
	}
}

func checkTable(t *testing.T, where, text string, of table, room int) {
	if len(of.rows) == 0 {
		assert.Empty(t, text, where)
		return
	}
	words := strings.Fields(text)
	for _, l := range strings.Split(text, "\n") {
		if len(strings.Fields(l)) > 2 {
			assert.LessOrEqual(t, width(l), room, where)
		}
	}
	for i, head := range of.head {
		for _, row := range of.rows {
			if i < len(row) && row[i].text != "" {
				for _, w := range strings.Fields(head + " " + row[i].text) {
					assert.Contains(t, words, w, "%s\n%q is whole, and under its heading", where, w)
				}
				break
			}
		}
	}
}

// A user's own profile is read as the shipped ones are, and starts filled in.
func TestStartedProfile(t *testing.T) {
	text := bytes.Replace(profiles.Start(), []byte("name: NAME"), []byte("name: ours"), 1)
	p, err := lab.ReadProfile("ours.yaml", text)
	require.NoError(t, err)
	assert.Equal(t, "ours", p.Name)
	for _, f := range p.Facts() {
		assert.Contains(t, string(text), "\n"+map[bool]string{true: "", false: "# "}[f.Given]+f.Key+":",
			"every key is in it, given or to fill in")
	}
}
