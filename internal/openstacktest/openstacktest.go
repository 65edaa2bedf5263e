//go:build unix

// Package openstacktest starts a real OpenStack Networking server, with its identity
// service, for a test.
package openstacktest

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"isonomos/internal/pgtest"
)

// A Server runs until its test ends. It has two projects, pier and quay, each with a user of its
// own. All passwords are Password.
type Server struct {
	Identity string // address of the identity service
	Network  string // address of the networking service
	t        testing.TB
	token    map[string]string // by project
	tables   string            // connection string of its database
	turned   bool              // rows were last laid down in descending order
}

// Password is that of every user.
const Password = "hush-harbour-4711"

const python = "/usr/bin/python3"

// Start starts the server. Where it is not installed the test is skipped.
func Start(t testing.TB) *Server {
	t.Helper()
	for _, name := range []string{"neutron", "keystone", "waitress"} {
		if _, err := os.Stat("/usr/lib/python3/dist-packages/" + name); err != nil {
			t.Skip("no OpenStack Networking server is installed")
		}
	}
	settings := pgtest.Start(t)
	db, err := pgx.Connect(t.Context(), settings)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	for _, name := range []string{"neutron", "keystone"} {
		if _, err := db.Exec(t.Context(), "create database "+name); err != nil {
			t.Fatal(err)
		}
	}
	socket := strings.TrimPrefix(strings.Fields(settings)[0], "host=")
	s := &Server{Identity: "http://127.0.0.1:" + freePort(t) + "/v3", Network: "http://127.0.0.1:" + freePort(t),
		t: t, token: make(map[string]string), tables: strings.Replace(settings, "dbname=postgres", "dbname=neutron", 1)}
	folder := t.TempDir()
	var wait sync.WaitGroup
	var broken [2]error
	wait.Go(func() { broken[0] = s.startIdentity(filepath.Join(folder, "identity"), socket) })
	wait.Go(func() { broken[1] = s.startNetwork(filepath.Join(folder, "network"), socket) })
	wait.Wait()
	for _, err := range broken {
		if err != nil {
			t.Fatal(err)
		}
	}
	s.fill()
	return s
}

// Reorder rewrites the rows of the server's tables in the opposite order: the server promises no
// order of what an object contains, and afterwards returns another one.
func (s *Server) Reorder() {
	s.t.Helper()
	db, err := pgx.Connect(s.t.Context(), s.tables)
	if err != nil {
		s.t.Fatal(err)
	}
	defer db.Close(context.Background())
	order := "desc"
	if s.turned = !s.turned; !s.turned {
		order = "asc"
	}
	for _, x := range [][2]string{{"standardattributes", "id"}, {"securitygrouprules", "id"},
		{"address_associations", "address"}, {"securitygroupportbindings", "security_group_id"},
		{"ipallocations", "ip_address"}} {
		for _, command := range []string{"drop index if exists turned_%[1]s",
			"create index turned_%[1]s on %[1]s (%[2]s %[3]s)", "cluster %[1]s using turned_%[1]s", "analyze %[1]s"} {
			if _, err := db.Exec(s.t.Context(), fmt.Sprintf(command, x[0], x[1], order)); err != nil {
				s.t.Fatal(err)
			}
		}
	}
}

func freePort(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	return port
}

func write(folder string, files map[string]string) error {
	if err := os.MkdirAll(filepath.Join(folder, "lock"), 0o700); err != nil {
		return err
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// serve starts a server that ends with the test, and waits until it answers.
func (s *Server) serve(c *exec.Cmd, folder, address string) error {
	log, err := os.Create(filepath.Join(folder, "log"))
	if err != nil {
		return err
	}
	defer log.Close()
	c.Stdout, c.Stderr, c.Dir = log, log, folder
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := c.Start(); err != nil {
		return err
	}
	s.t.Cleanup(func() {
		_ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
		_ = c.Wait()
	})
	for range 600 {
		if answer, err := http.Get(address); err == nil {
			answer.Body.Close()
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	text, _ := os.ReadFile(log.Name())
	return fmt.Errorf("%s does not answer: %s", address, text)
}

func (s *Server) startIdentity(folder, socket string) error {
	err := write(folder, map[string]string{"keystone.conf": fmt.Sprintf(`[database]
connection = postgresql+psycopg2://tester@/keystone?host=%s
[token]
provider = fernet
[fernet_tokens]
key_repository = %[2]s/fernet
[fernet_receipts]
key_repository = %[2]s/receipts
[credential]
key_repository = %[2]s/credential
[identity]
password_hash_rounds = 4
[oslo_messaging_notifications]
driver = noop
`, socket, folder)})
	if err != nil {
		return err
	}
	for _, name := range []string{"fernet", "receipts", "credential"} {
		if err := os.Mkdir(filepath.Join(folder, name), 0o700); err != nil {
			return err
		}
	}
	owner := []string{"--keystone-user", fmt.Sprint(os.Getuid()), "--keystone-group", fmt.Sprint(os.Getgid())}
	for _, args := range [][]string{append([]string{"fernet_setup"}, owner...),
		append([]string{"credential_setup"}, owner...), {"db_sync"},
		{"bootstrap", "--bootstrap-password", Password, "--bootstrap-region-id", "coast", "--bootstrap-admin-url",
			s.Identity, "--bootstrap-internal-url", s.Identity, "--bootstrap-public-url", s.Identity}} {
		c := exec.Command("/usr/bin/keystone-manage",
			append([]string{"--config-file", filepath.Join(folder, "keystone.conf")}, args...)...)
		if out, err := c.CombinedOutput(); err != nil {
			return fmt.Errorf("keystone-manage %s: %w\n%s", args[0], err, out)
		}
	}
	port := strings.TrimSuffix(s.Identity[strings.LastIndexByte(s.Identity, ':')+1:], "/v3")
	c := exec.Command(python, "-c", `
import sys
from keystone.server.wsgi import initialize_public_application as app
from waitress import serve
sys.argv = sys.argv[:1]
serve(app(), listen="127.0.0.1:`+port+`", threads=8)`)
	c.Env = append(os.Environ(), "OS_KEYSTONE_CONFIG_DIR="+folder)
	return s.serve(c, folder, s.Identity)
}

func (s *Server) startNetwork(folder, socket string) error {
	port := s.Network[strings.LastIndexByte(s.Network, ':')+1:]
	err := write(folder, map[string]string{"neutron.conf": fmt.Sprintf(`[DEFAULT]
bind_host = 127.0.0.1
bind_port = %s
auth_strategy = keystone
core_plugin = ml2
service_plugins =
api_workers = 1
rpc_workers = 0
rpc_state_report_workers = 0
transport_url = fake://
state_path = %[2]s
api_paste_config = %[2]s/api-paste.ini
notify_nova_on_port_status_changes = false
notify_nova_on_port_data_changes = false
dhcp_agent_notification = false
[database]
connection = postgresql+psycopg2://tester@/neutron?host=%[3]s
[oslo_concurrency]
lock_path = %[2]s/lock
[oslo_messaging_notifications]
driver = noop
[quotas]
quota_security_group = 12
quota_security_group_rule = 120
[keystone_authtoken]
www_authenticate_uri = %[4]s
auth_url = %[4]s
auth_type = password
username = admin
password = %[5]s
project_name = admin
user_domain_id = default
project_domain_id = default
`, port, folder, socket, s.Identity, Password), "ml2.conf": `[ml2]
type_drivers = local
tenant_network_types = local
mechanism_drivers =
extension_drivers = port_security
[securitygroup]
enable_security_group = true
`, "api-paste.ini": `[composite:neutron]
use = egg:Paste#urlmap
/: versions
/v2.0: api
[composite:api]
use = call:neutron.auth:pipeline_factory
keystone = http_proxy_to_wsgi request_id catch_errors authtoken keystonecontext extensions app
[composite:versions]
use = call:neutron.auth:pipeline_factory
keystone = http_proxy_to_wsgi neutronversions
[filter:request_id]
paste.filter_factory = oslo_middleware:RequestId.factory
[filter:catch_errors]
paste.filter_factory = oslo_middleware:CatchErrors.factory
[filter:http_proxy_to_wsgi]
paste.filter_factory = oslo_middleware.http_proxy_to_wsgi:HTTPProxyToWSGI.factory
[filter:keystonecontext]
paste.filter_factory = neutron.auth:NeutronKeystoneContext.factory
[filter:authtoken]
paste.filter_factory = keystonemiddleware.auth_token:filter_factory
[filter:extensions]
paste.filter_factory = neutron.api.extensions:plugin_aware_extension_middleware_factory
[app:neutronversions]
paste.app_factory = neutron.pecan_wsgi.app:versions_factory
[app:app]
paste.app_factory = neutron.api.v2.router:APIRouter.factory
`})
	if err != nil {
		return err
	}
	files := []string{"--config-file", filepath.Join(folder, "neutron.conf"), "--config-file",
		filepath.Join(folder, "ml2.conf")}
	upgrade := exec.Command(python, append([]string{"-c", "import sys; from neutron.db.migration.cli import " +
		"main; sys.exit(main())"}, append(files, "upgrade", "heads")...)...)
	if out, err := upgrade.CombinedOutput(); err != nil {
		return fmt.Errorf("making the tables: %w\n%s", err, out)
	}
	return s.serve(exec.Command(python, append([]string{"-c", "import sys; from neutron.cmd.eventlet.server " +
		"import main; sys.exit(main())"}, files...)...), folder, s.Network)
}

// fill creates the projects and users, and registers the networking service.
func (s *Server) fill() {
	s.t.Helper()
	s.token["admin"] = s.signIn("admin", "admin")
	id := func(answer map[string]any, name string) string {
		one, _ := answer[name].(map[string]any)
		text, _ := one["id"].(string)
		return text
	}
	service := id(s.identity(http.MethodPost, "services", `{"service":{"type":"network","name":"neutron"}}`), "service")
	for _, kind := range []string{"public", "internal", "admin"} {
		s.identity(http.MethodPost, "endpoints",
			fmt.Sprintf(`{"endpoint":{"interface":%q,"region_id":"coast","service_id":%q,"url":%q}}`, kind, service,
				s.Network+"/"))
	}
	roles, _ := s.identity(http.MethodGet, "roles?name=member", "")["roles"].([]any)
	role, _ := roles[0].(map[string]any)["id"].(string)
	for _, name := range []string{"pier", "quay"} {
		project := id(s.identity(http.MethodPost, "projects",
			fmt.Sprintf(`{"project":{"name":%q,"domain_id":"default"}}`, name)), "project")
		user := id(s.identity(http.MethodPost, "users",
			fmt.Sprintf(`{"user":{"name":"%s-user","domain_id":"default","password":%q}}`, name, Password)), "user")
		s.identity(http.MethodPut, "projects/"+project+"/users/"+user+"/roles/"+role, "")
		s.token[name] = s.signIn(name+"-user", name)
	}
}

func (s *Server) signIn(user, project string) string {
	s.t.Helper()
	body :=
		fmt.Sprintf(
			`{"auth":{"identity":{"methods":["password"],"password":{"user":{"name":%q,"domain":{"id":"default"},`+
				`"password":%q}}},"scope":{"project":{"name":%q,"domain":{"id":"default"}}}}}`, user, Password, project)
	answer, err := http.Post(s.Identity+"/auth/tokens", "application/json", strings.NewReader(body))
	if err != nil {
		s.t.Fatal(err)
	}
	answer.Body.Close()
	if answer.StatusCode != http.StatusCreated {
		s.t.Fatalf("signing in as %s: %s", user, answer.Status)
	}
	return answer.Header.Get("X-Subject-Token")
}

func (s *Server) identity(method, path, body string) map[string]any {
	s.t.Helper()
	return s.ask(method, s.Identity+"/"+path, s.token["admin"], body)
}

// Ask sends a request to the networking service as a project ("admin", "pier", "quay"), without the
// program, and returns the answer.
func (s *Server) Ask(project, method, path, body string) map[string]any {
	s.t.Helper()
	return s.ask(method, s.Network+"/v2.0/"+path, s.token[project], body)
}

func (s *Server) ask(method, address, token, body string) map[string]any {
	s.t.Helper()
	r, err := http.NewRequestWithContext(s.t.Context(), method, address, strings.NewReader(body))
	if err != nil {
		s.t.Fatal(err)
	}
	r.Header.Set("X-Auth-Token", token)
	r.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		s.t.Fatal(err)
	}
	defer answer.Body.Close()
	var text bytes.Buffer
	if _, err := text.ReadFrom(answer.Body); err != nil {
		s.t.Fatal(err)
	}
	if answer.StatusCode >= 300 {
		s.t.Fatalf("%s %s %s: %s %s", method, address, body, answer.Status, text.String())
	}
	var value map[string]any
	if text.Len() > 0 {
		if err := json.Unmarshal(text.Bytes(), &value); err != nil {
			s.t.Fatal(err)
		}
	}
	return value
}

// Profile is the content of clouds.yaml for the server, with a profile for each project.
func (s *Server) Profile() string {
	var b strings.Builder
	b.WriteString("clouds:\n")
	for _, name := range []string{"pier", "quay"} {
		fmt.Fprintf(&b, "  %s:\n    auth:\n      auth_url: %s\n      username: %s-user\n      password: %s\n     "+
			" project_name: %[1]s\n      user_domain_id: default\n      project_domain_id: default\n    "+
			"region_name: coast\n", name, s.Identity, name, Password)
	}
	return b.String()
}
