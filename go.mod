module openbastion

go 1.26.3

require go.yaml.in/yaml/v3 v3.0.6

require (
	git.sr.ht/~sbinet/gg v0.8.0
	github.com/blakesmith/ar v0.0.0-20190502131153-809d4375e1fb
	github.com/cavaliergopher/cpio v1.0.1
	github.com/chromedp/chromedp v0.23.0
	github.com/clipperhouse/displaywidth v0.11.0
	github.com/creack/pty v1.1.24
	github.com/davecgh/go-xdr v0.0.0-20161123171359-e6a2ba005892
	github.com/gaissmai/bart v0.30.0
	github.com/gofrs/flock v0.13.2
	github.com/google/jsonschema-go v0.4.3
	github.com/google/nftables v0.3.0
	github.com/insomniacslk/dhcp v0.0.0-20260901064844-234b97448fae
	github.com/klauspost/compress v1.20.3
	github.com/mdlayher/ndp v1.1.0
	github.com/mdlayher/netlink v1.7.3-0.20250113171957-fbb4dce95f42
	github.com/mikelolasagasti/xz v1.0.1
	github.com/owenrumney/go-sarif/v3 v3.3.1
	github.com/rogpeppe/go-internal v1.16.0
	github.com/signintech/gopdf v0.33.0
	github.com/spf13/cobra v1.10.2
	github.com/spf13/pflag v1.0.9
	github.com/stretchr/testify v1.12.1
	github.com/vishvananda/netlink v1.3.1
	github.com/vishvananda/netns v0.0.5
	golang.org/x/crypto v0.58.0
	golang.org/x/image v0.47.0
	golang.org/x/net v0.62.0
	golang.org/x/sync v0.24.0
	golang.org/x/sys v0.49.0
	golang.org/x/term v0.47.0
	golang.org/x/text v0.43.0
	gvisor.dev/gvisor v0.0.0-20260905035102-160fafc42237
	maragu.dev/gomponents v1.2.0
	pgregory.net/rapid v1.3.0
	rsc.io/qr v0.2.0
)

require (
	github.com/BurntSushi/toml v1.4.1-0.20240526193622-a339e1f7089c // indirect
	github.com/chromedp/cdproto v0.159.0 // indirect
	github.com/clipperhouse/uax29/v2 v2.7.0 // indirect
	github.com/cpuguy83/go-md2man/v2 v2.0.6 // indirect
	github.com/go-json-experiment/json v0.0.0-20260213210345-44df1a37e875 // indirect
	github.com/golang/freetype v0.0.0-20170609003504-e2365dfdc4a0 // indirect
	github.com/google/btree v1.1.2 // indirect
	github.com/google/go-cmp v0.7.0 // indirect
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/josharian/native v1.1.0 // indirect
	github.com/mdlayher/socket v0.5.1 // indirect
	github.com/phpdave11/gofpdi v1.0.14-0.20211212211723-1f10f9844311 // indirect
	github.com/pierrec/lz4/v4 v4.1.26 // indirect
	github.com/pkg/errors v0.9.1 // indirect
	github.com/russross/blackfriday/v2 v2.1.0 // indirect
	github.com/u-root/uio v0.0.0-20230220225925-ffce2a382923 // indirect
	github.com/xeipuuv/gojsonpointer v0.0.0-20180127040702-4e3ac2762d5f // indirect
	github.com/xeipuuv/gojsonreference v0.0.0-20180127040603-bd5ef7bd5415 // indirect
	github.com/xeipuuv/gojsonschema v1.2.0 // indirect
	golang.org/x/exp v0.0.0-20250711185948-6ae5c78190dc // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.42.0 // indirect
	golang.org/x/telemetry v0.0.0-20261010193011-f71dc92da45e // indirect
	golang.org/x/time v0.15.0 // indirect
	golang.org/x/tools v0.52.0 // indirect
	golang.org/x/vuln v1.9.0 // indirect
	honnef.co/go/tools v0.8.2 // indirect
)

tool (
	golang.org/x/vuln/cmd/govulncheck
	honnef.co/go/tools/cmd/staticcheck
)
