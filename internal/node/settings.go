package node

import (
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"gerastic/internal/core/outbound"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store/disk"
)

// Settings say how a node runs.
type Settings struct {
	Name            string
	Edge, Control   string   // listen addresses
	ControlHosts    []string // names under which control may be reached, besides addresses, localhost and that of Control
	Data            string   // directory
	Memory          int64    // bytes
	Disk            int64    // bytes of the store's tier on disk, file system overhead included; 0: none
	DiskWrites      int64    // bytes a second that it may write; 0: any
	OwnsProcess     bool     // nobody else is in the process: its collector is held to Memory, too
	Database        string   // connection string; "" with PrivateDatabase, or of a node that runs alone
	PrivateDatabase bool
	Throwaway       bool // the private database may lose everything in a crash of the machine
	// Origin is the one of a policy that names none, http://host:port; "": a policy must. Without
	// a policy, all that it allows to be stored is.
	Origin         string
	PolicyFile     string
	PolicyForce    bool
	Secrets        string // directory of the files that the policy names with secret_file:
	AdminToken     string // "" makes one at the first start
	TrustProxies   []string
	PerAddress     int    // connections of one address at a time; 0: as many as there may be in all
	Certificate    string // PEM files for TLS on the edge; both or none
	CertificateKey string
	// SyncLimit is how long a node may go without knowing the ledger: for so long the
	// others wait for it, and after that it revalidates before it serves. 0: DefaultSyncLimit.
	SyncLimit time.Duration
	ServeOn   bool // serve on, instead, when the ledger is lost
	// Development: everybody sees keys and reasons, browsers ask each time, and no act asks for
	// confirmation. It is for addresses of the machine itself only.
	Development bool
	Console     fs.FS
	Log         *slog.Logger

	trusted outbound.Trusted
	origin  *url.URL
}

// Alone reports whether the records live in memory, until the node stops.
func (s *Settings) Alone() bool { return s.Database == "" && !s.PrivateDatabase }

// DefaultData is a node's directory, unless it is told otherwise.
const DefaultData = "gerastic-data"

// DefaultSyncLimit is how long a node may go without knowing the ledger.
const DefaultSyncLimit = 10 * time.Second

// MinMemory is the least that a store is useful with.
const MinMemory = 16 << 20

// check says what is wrong with the settings, and fills what is left out.
func (s *Settings) check() error {
	if err := s.checkOrigin(); err != nil {
		return err
	}
	if s.Alone() && s.Origin == "" && s.PolicyFile == "" {
		return fmt.Errorf("the node does not know what to serve: pass --origin http://HOST:PORT, or --policy FILE; with a database (--private-database, or --database URL) the policy may come later")
	}
	if s.Database != "" && s.PrivateDatabase {
		return fmt.Errorf("--database and --private-database exclude each other; keep one")
	}
	if s.SyncLimit == 0 {
		s.SyncLimit = DefaultSyncLimit
	}
	if s.SyncLimit < time.Second {
		return fmt.Errorf("--sync-limit must be at least 1s")
	}
	if s.Memory < MinMemory {
		return fmt.Errorf("--memory must be at least 16MiB: that is what a store needs to be of use beside its own tables")
	}
	if s.Disk != 0 && s.Disk < disk.Least {
		return fmt.Errorf("--disk must be 0, for no tier on disk, or at least 16MiB")
	}
	if s.DiskWrites < 0 || s.DiskWrites > 0 && s.DiskWrites < 64<<10 {
		return fmt.Errorf("--disk-writes must be at least 64KiB/s, or 0 for as much as comes")
	}
	if (s.Certificate == "") != (s.CertificateKey == "") {
		return fmt.Errorf("--certificate and --certificate-key belong together; pass both")
	}
	if err := s.checkHosts(); err != nil {
		return err
	}
	if err := s.checkDevelopment(); err != nil {
		return err
	}
	if s.PerAddress < 0 {
		return fmt.Errorf("--connections-per-address must be 0, for no limit of its own, or more")
	}
	s.trusted = nil
	for _, text := range s.TrustProxies {
		prefix, err := netip.ParsePrefix(text)
		if err != nil {
			addr, err := netip.ParseAddr(text)
			if err != nil {
				return fmt.Errorf("--trust-proxy %q is not an address range; write 10.0.0.0/8 or 127.0.0.1", text)
			}
			prefix = netip.PrefixFrom(addr, addr.BitLen())
		}
		s.trusted = append(s.trusted, prefix.Masked())
	}
	return nil
}

// checkOrigin reads the address of the origin.
func (s *Settings) checkOrigin() (err error) {
	if s.origin = nil; s.Origin == "" {
		return nil
	}
	text := s.Origin
	if !strings.Contains(text, "://") {
		text = "http://" + text
	}
	s.origin, err = policy.ParseOrigin(text)
	if err != nil {
		return fmt.Errorf("--origin: %w", err)
	}
	return nil
}

// checkDevelopment refuses to show everybody on a network what only engineers may see.
func (s *Settings) checkDevelopment() error {
	if !s.Development {
		return nil
	}
	for flag, address := range map[string]string{"--edge": s.Edge, "--control": s.Control} {
		host, _, err := net.SplitHostPort(address)
		ip, noIP := netip.ParseAddr(host)
		if err != nil || host != "localhost" && (noIP != nil || !ip.IsLoopback()) {
			return fmt.Errorf("--development shows keys and reasons to everybody, so that it is for loopback addresses only; %s is %s: write 127.0.0.1:PORT", flag, address)
		}
	}
	return nil
}

// checkHosts brings the names of control into the form in which they are compared.
func (s *Settings) checkHosts() error {
	var hosts []string
	for _, name := range s.ControlHosts {
		name = strings.ToLower(strings.TrimSuffix(strings.TrimSpace(name), "."))
		if name == "" || strings.ContainsAny(name, ":/*@ ") {
			return fmt.Errorf("--control-hosts %q is not a name; write console.example, without scheme and port, and each name in full", name)
		}
		hosts = append(hosts, name)
	}
	if name, _, err := net.SplitHostPort(s.Control); err == nil && name != "" {
		hosts = append(hosts, strings.ToLower(name))
	}
	s.ControlHosts = hosts
	return nil
}
