//go:build linux

package machine

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/export/leases"
	"openbastion/internal/export/nft"
	"openbastion/internal/model/plan"
	"openbastion/internal/sampling"
	"openbastion/internal/verify/claims"
)

// router makes a medium that starts as a router of Debian's own parts, set up by what the
// plan exports, and changed by a shell line.
func router(t *testing.T, p *plan.Plan, o Options, change string) string {
	dir := t.TempDir()
	leased, err := leases.Files(p)
	require.NoError(t, err)
	for _, f := range append(nft.Files(p, nil), leased...) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, filepath.Base(f.Name)), f.Data, 0o600))
	}
	to := filepath.Join(o.Beside, "router.iso")
	out, err := exec.Command("sh", "testdata/router.sh", to, o.Kernel, dir, change).CombinedOutput()
	if err != nil {
		t.Skipf("no router matches made of Debian's parts: %s", out)
	}
	return to
}

// A router of Debian's own parts, set up by our exports, is booted from its own medium and
// passes every claim; set up wrongly, it is caught.
func TestForeignAppliance(t *testing.T) {
	text, err := examples.Labs.ReadFile("saltmarsh.yaml")
	require.NoError(t, err)
	text = []byte(strings.Replace(string(text), "  sluice:\n", "  sluice:\n    image: {file: router.iso}\n", 1))
	if !sampling.Turn(0, 2) {
		t.Skip("its turn is tomorrow")
	}
	type set struct {
		name, change string
		broken       []string // claims that show it, among others
	}
	for _, c := range sampling.Some(t, []set{
		{"as exported", ":", nil},
		{"everybody may go everywhere", "nft flush chain inet bastion rules; nft add rule inet bastion rules accept", []string{"newt.blocked", "expect-1.expect"}},
		{"a wrong router in its leases", "killall dhcpd; sed -i s/routers.10.83.16.1/routers\\ 10.83.16.9/ /etc/dhcpd.conf; " +
			"dhcpd -q -cf /etc/dhcpd.conf -lf /var/lib/dhcp/dhcpd.leases eth1 eth2 eth1.48", []string{"heron.dhcp", "heron.gateway"}},
		{"a page on its WAN", "httpd -p 443; nft insert rule inet bastion input accept", []string{"sluice.inbound"}},
	}, 4) {
		t.Run(c.name, func(t *testing.T) {
			l, p := read(t, text)
			o := options(t, text, l)
			o.Only = []string{"sluice"}
			router(t, p, o, c.change)
			up, err := Up(t.Context(), p, o)
			require.NoError(t, err)
			defer up.Down()
			doc, _, err := claims.Run(t.Context(), p, up)
			require.NoError(t, err)
			var broken []string
			for _, r := range doc.Claims {
				if r.Verdict == claims.Broken {
					broken = append(broken, r.ID)
				}
			}
			if c.broken == nil {
				assert.Empty(t, broken)
			}
			assert.Subset(t, broken, c.broken)
			t.Log(broken)
		})
	}
}
