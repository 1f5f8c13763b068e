package listing

import (
	"strings"
	"sync"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// field is what a label, a column or a key word says that its value is.
type field uint8

const (
	noField     field = iota
	ignored           // known, and of no use here: its value is understood
	deviceField       // the system's name of an interface
	nameField         // a name that may be an interface's or a machine's
	roleField
	hardware
	ownAddress
	mask
	gateway
	resolver
	leaseServer
	leased // whether the address is a lease
	link
	network    // the segment or switch that an adapter is attached to
	trunk      // the tags that an adapter carries for others
	attachedAs // how, in a column or row of its own
	vlan
	machine
	destination
	neighborIP
	pool
)

// foldLabel writes a label as its letters and digits, small and without marks, words
// with one space between.
func foldLabel(label string) string {
	var b strings.Builder
	space := false
	lower := false
	for _, r := range norm.NFD.String(label) {
		switch {
		case unicode.Is(unicode.Mn, r):
			continue
		case unicode.IsLetter(r) || unicode.IsDigit(r):
			if unicode.IsUpper(r) && lower { // IPAddress, macAddress
				space = true
			}
			lower = unicode.IsLower(r)
			if space && b.Len() > 0 {
				b.WriteByte(' ')
			}
			space = false
			b.WriteRune(unicode.ToLower(r))
		case r == '\ufffd': // a letter that did not come through
			b.WriteByte('?')
		default:
			space, lower = true, false
		}
	}
	return b.String()
}

// vocabulary is the words by which a label is known, each list with the field. The
// first list that fits decides; in a list, any entry fits whose words the label all
// has, as beginnings of its own. Languages: English, German, French, Spanish,
// Portuguese, Italian, Dutch, Polish.
var vocabulary = []struct {
	is   field
	text string
}{
	{
		network,
		"mode d acces reseau; angeschlossen an; conectado a; connesso a; aangesloten op; gekoppeld aan; podlaczona do; podlaczony do; ligado a; attached to",
	},
	{resolver, "domain name serv; domain name server; dns serv conf; dns server conf; dns servers configured"},
	{deviceField, "interface name; interface alias; general device; device name; generals device"},
	{destination, "destination; dest; dst; netzwerkziel; destino; network destination"},
	{
		ignored,
		"connection type; profile; net bios; parent; iaid; duid; ipv6; inet6; ip6; inet 6; suffix; suffixe; sufijo; sufixo; search; domain; domane; domaine; dominio; descri; beschreib; netbios; wins; sufiks; opis; typ wezla; beschrijving; knooppunttype; verbindings; node type; knotentyp; type de noeud; tipo de nodo; tipo de no",
	},
	{
		ignored,
		"dzierzawa uzysk; dzierzawa wyg; lease verkreg; lease verlo; autokonfiguracja; autoconfiguratie; lease obtain; lease expir; lease time; lease erhalt; lease lauft; lease ab; bail; concesion; concess; validade; expira; renew; rebind; uuid; bcast; broadcast; brd; mtu; metric; routing enabled; ip routing; proxy; dhcpv6; dhcp 6; ntp; time server; model; driver; speed; vitesse; duplex; autokonfig akt; autoconfiguration enab; autoconfiguration acti; configuracion auto hab; configuracao auto; configuration auto; link local; serial; fingerprint; key ident; signature; thumbprint; sha 256; sha256; seriennummer; numero de serie; if index; index; interface index; flags; queue; last change; ttl; netlabel; kernel; store; preferred life; valid life; skip as source",
	},
	{
		leaseServer,
		"serwer dhcp; dhcp server; dhcp serv; server dhcp; serveur dhcp; servidor dhcp; dhcp identif; server ident; server addr; dhcp from; lease server; lease from; dhcp 4 server",
	},
	{
		resolver,
		"serwery dns; serwer dns; dnsserv; dns serv; serv dns; name server; nameserver; nameservers; dns; resolver; resolvers; domain name servers; servidores dns; nom serveur",
	},
	{
		leased,
		"dhcp wlaczone; dhcp ingeschakeld; dynamic; dhcp enabled; dhcp aktiv; dhcp activ; dhcp habil; dhcp ativ; dhcp abil; dhcp; dhcp 4; dhcpv4; ipv 4 method; ipv4 method; bootproto; mode; modo; ip assignment; address type; address assignment; addressing; ip config; prefix origin; suffix origin; address origin",
	},
	{
		gateway,
		"brama; gateway; gatway; passerelle; puerta; enlace; default route; standardgateway; standaardgateway; router; routers; next hop; nexthop; gw; default gw; proximo salto; pasarela; via; nh; hop; prochain saut; nachster hop",
	},
	{pool, "pool; range; start address; end address; bereich; plage; rango; intervalo"},
	{
		mask,
		"maska; mask; netmask; maske; subnetmask; subnetzmaske; netzmaske; masque; mascara; maschera; masker; genmask; prefix length; prefixlength; prefixlen; prefix; bit count; subnet bits; mask bits",
	},
	{
		hardware,
		"adres fizyczny; fysiek; physical addr; physikal; physisch; physique; fisica; fisico; endereco fis; hw addr; hwaddr; hardware; mac; macaddr; ether; lladdr; link addr; link layer addr; station addr; perm addr; materiel",
	},
	{
		machine,
		"host name; hostname; vm; vm name; vmname; virtual machine; rechnername; hostnam; nom de l hote; nom hote; nombre de host; nome do host; computer name; machine; system name; guest name",
	},
	{
		destination,
		"destination; dest; dst; netzwerkziel; ziel; destino; destination prefix; network destination; reseau; route",
	},
	{
		ownAddress,
		"adres ipv 4; adres ipv4; ipv 4 adres; ipv4 adres; ipv 4; ipv4; ip addr; ipaddr; ip adr; ipaddr; adresse ip; direccion ip; direccion; endereco; indirizzo; ipadres; inet addr; inet; ip 4 addr; ip4 addr; local addr; fixed addr; lan ip; wan ip; address; addr; adresse; ip; v 4; v4; local; nexthop self",
	},
	{
		link,
		"plugged; media state; medienstatus; medien; medios; midia; media; statut; estado; state; status; link; carrier; cable; connected; connect at; admin; oper; operstate; link status; stato",
	},
	{trunk, "trunks; trunk; trunk vlans; allowed vlans; tagged vlans"},
	{vlan, "vlan; vlan id; vid; tag; vlan tag"},
	{attachedAs, "type; source type; attachment type"},
	{
		network,
		"vnet; network; switch; vswitch; switch name; bridge; port group; portgroup; source network; source bridge; attached; attachment; network name; connection; virtual switch; netzwerk; verbunden mit; conectado a; connecte a; network label; uplink; lan segment; net; connected to; backing; source",
	},
	{roleField, "role; zone; purpose; label; rolle"},
	{
		deviceField,
		"interface; iface; ifname; if name; device; netif; nic; schnittstelle; interfaz; interfaccia; interface alias; alias; ifc; dev; port; adapter name; real interface; assigned",
	},
	{nameField, "name; nom; nombre; nome; adapter; id; title"},
}

// labels is the vocabulary taken apart, at first use.
var labels = func() func() [][][]string {
	var made [][][]string
	return func() [][][]string {
		if made == nil {
			for _, v := range vocabulary {
				var list [][]string
				for _, entry := range strings.Split(v.text, "; ") {
					list = append(list, strings.Fields(entry))
				}
				made = append(made, list)
			}
		}
		return made
	}
}()

// looked remembers what labels say: a listing has few, again and again.
var looked struct {
	sync.Mutex
	fields map[string]field
}

// maxLooked bounds what is remembered.
const maxLooked = 1 << 12

// fieldOf returns what a label says of its value.
func fieldOf(label string) field {
	looked.Lock()
	defer looked.Unlock()
	if f, ok := looked.fields[label]; ok {
		return f
	}
	if len(looked.fields) >= maxLooked || looked.fields == nil {
		looked.fields = map[string]field{}
	}
	f := lookUp(label)
	looked.fields[strings.Clone(label)] = f
	return f
}

func lookUp(label string) field {
	words := strings.Fields(foldLabel(label))
	if len(words) == 0 || len(words) > 8 {
		return noField
	}
	for i, list := range labels() {
		for _, entry := range list {
			if hasAll(words, entry) {
				return vocabulary[i].is
			}
		}
	}
	return noField
}

// hasAll reports whether each wanted word begins some word; one of up to three letters
// must be a whole one.
func hasAll(words, wanted []string) bool {
	for _, w := range wanted {
		found := false
		for _, x := range words {
			if x == w || len(w) > 3 && w != "ether" && (strings.HasPrefix(x, w) || alike(x, w)) {
				found = true
				break
			}
		}
		if !found {
			return false
		}
	}
	return true
}

// alike reports whether a word begins with another where letters that did not come
// through stand for any.
func alike(x, w string) bool {
	if len(x) < len(w) || !strings.Contains(x, "?") {
		return false
	}
	for i := range w {
		if x[i] != w[i] && x[i] != '?' {
			return false
		}
	}
	return true
}

// nothing tells values that say that there is none.
func nothing(value string) bool {
	switch foldLabel(value) {
	case "",
		"none",
		"no",
		"n a",
		"na",
		"not set",
		"unset",
		"unassigned",
		"not assigned",
		"keine",
		"kein",
		"keiner",
		"aucun",
		"aucune",
		"ninguno",
		"ninguna",
		"nenhum",
		"nenhuma",
		"nessuno",
		"geen",
		"empty",
		"null",
		"off",
		"not configured",
		"without",
		"undefined":
		return true
	}
	return false
}

// saysYes and saysNo tell answers to whether something is so.
func saysYes(value string) bool {
	switch first(foldLabel(value)) {
	case "yes",
		"ja", "tak",
		"oui",
		"si",
		"sim",
		"true",
		"on",
		"enabled",
		"1",
		"auto",
		"dhcp",
		"dynamic",
		"lease",
		"leased",
		"y",
		"automatic",
		"dhcp4":
		return true
	}
	return false
}

func saysNo(value string) bool {
	switch first(foldLabel(value)) {
	case "no",
		"nein",
		"non",
		"nao",
		"false",
		"off",
		"disabled",
		"0",
		"manual",
		"static",
		"fixed",
		"n",
		"none",
		"statisch":
		return true
	}
	return false
}

func first(text string) string {
	w, _, _ := strings.Cut(text, " ")
	return w
}
