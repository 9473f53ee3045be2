// Package trade knows what words of the trade mean that people write where something is called otherwise here.
package trade

import (
	"slices"
	"strings"
	"unicode"
)

// Guess is what trade words mean that people write where something is called otherwise here.
type Guess struct {
	In    []string // the tables in which they are guessed, as "host.container"; "" is the top
	Words []string
	Key   string // what is meant, with its table: "host.container.mounts"; "" where nothing is
	Say   string // what else there is to say, or what to do where nothing is meant
}

// Value is what trade words mean that people write as the value of a key.
type Value struct {
	Of    string // the key, with its table
	Words []string
	Means string // the value; "" where there is none
	Say   string
}

// Command is what trade words mean that people write as a command.
type Command struct {
	Words []string
	Means []string // the commands, each as it is written behind northstake
}

// guess makes a Guess of lists with blanks between.
func guess(in, words, key, say string) Guess {
	tables := strings.Split(in, " ")
	if in == "top" {
		tables = []string{""}
	}
	return Guess{In: tables, Words: strings.Fields(words), Key: key, Say: say}
}

// Guesses are trade words by the tables in which people guess them. A table of kits is the
// same one of hosts, or of sites.
var Guesses = []Guess{
	guess("top", "hosts servers server nodes node machines machine instance vm", "host", ""),
	guess("top", "sites vhost vhosts virtualhost website websites web domain app", "site", ""),
	guess("top", "groups group roles role profiles profile defaults common base class bundle", "kit", ""),
	guess("top", "variables vars locals parameters", "ground.givens", ""),
	guess("top", "ssh connection login credentials", "reach", ""),
	guess("top", "project name metadata config settings", "ground", ""),
	guess("top", "packages services ports", "", "packages, services and ports are declared for a host or a kit: write them in [kit.NAME]"),
	guess("top", "containers docker podman", "host.container", ""),
	guess("top", "secrets vault", "", "secrets are kept by the service: northstake secret keep NAME takes one, and keys that end in _secret name it"),
	guess("top", "include includes import imports", "", "every .toml file of the directory is read: take it out"),

	guess("ground", "description summary title comment", "ground.about", ""),
	guess("ground", "variables vars parameters", "ground.givens", ""),
	guess("ground", "prune purge cleanup garbage_collect orphans", "ground.no_longer_declared", ""),
	guess("ground", "default_server fallback unknown_hosts", "ground.unknown_names", ""),
	guess("ground", "discovery host_list hosts_program", "ground.more_hosts", ""),
	guess("ground.more_hosts", "script command path file exec", "ground.more_hosts.program", ""),
	guess("ground.more_hosts", "cache ttl cache_for refresh", "ground.more_hosts.reuse_for", ""),

	guess("reach host.reach", "username login remote_user ssh_user account", "reach.user", ""),
	guess("reach host.reach", "ssh_port", "reach.port", ""),
	guess("reach host.reach", "private_key ssh_key key_file identity identity_file pem", "reach.key_secret", "northstake secret keep NAME --file FILE keeps the key"),
	guess("reach host.reach", "pass ssh_password passphrase", "reach.password_secret", ""),
	guess("reach host.reach", "root elevate escalate privilege as_root", "reach.sudo", ""),
	guess("reach host.reach", "sudo_pass root_password", "reach.sudo_secret", ""),
	guess("reach host.reach", "ask_pass ask_sudo", "reach.sudo_asks", ""),
	guess("reach host.reach", "ca host_ca cert_authority ssh_ca", "reach.host_key_authorities", ""),
	guess("reach host.reach", "known_hosts host_key fingerprint strict_host_key_checking", "", "northstake trust shows the keys that hosts have, and takes them from a known_hosts file"),
	guess("reach host.reach", "jump proxy_jump bastion proxy_command gateway", "", "hosts are reached straight from the service: run it where it reaches them"),

	guess("host", "hostname ip host fqdn addr ip_address ipv4 dns_name", "host.address", ""),
	guess("host", "connection transport driver protocol", "host.via", ""),
	guess("host", "user username ssh_user remote_user", "reach.user", ""),
	guess("host", "ssh_key private_key key key_file identity_file", "reach.key_secret", ""),
	guess("host", "password ssh_password", "reach.password_secret", ""),
	guess("host", "ssh_port", "reach.port", ""),
	guess("host", "sudo", "reach.sudo", ""),
	guess("host", "tags tag", "host.labels", ""),
	guess("host", "groups roles role profile profiles extends inherits include includes template", "host.kits", ""),
	guess("host", "vars variables parameters environment env", "host.givens", ""),
	guess("host", "firewall iptables nftables ufw firewalld security_group policy", "host.inbound", "ports lists what is let in"),
	guess("host", "open_ports allow expose allowed_ports", "host.ports", ""),
	guess("host", "users accounts", "host.account", ""),
	guess("host", "files templates copy", "host.file", ""),
	guess("host", "directories dirs dir folders folder", "host.directory", ""),
	guess("host", "links symlinks symlink", "host.link", ""),
	guess("host", "containers docker podman pod pods compose", "host.container", ""),
	guess("host", "repos repo repositories repository sources apt_sources yum_repos", "host.source", ""),
	guess("host", "pkgs pkg apt dnf yum install installed software", "host.packages", ""),
	guess("host", "daemons units unit systemd systemctl", "host.services", ""),
	guess("host", "webserver nginx httpd apache caddy", "host.server", "a site says which web server serves it: server in [site.NAME]"),
	guess("host", "sites vhosts websites", "", "a site names its hosts: write on in [site.NAME]"),
	guess("host", "reboot auto_reboot allow_reboot reboot_required", "host.may_restart", ""),
	guess("host", "crontab cronjobs jobs timers timer", "host.file", "write a file below /etc/cron.d, or a timer's unit"),
	guess("host", "sysctl limits timezone locale", "host.file", "write the file that the system reads it from"),
	guess("host", "authorized_keys ssh_keys", "host.file", "write the file of the account's keys"),
	guess("host", "commands command run exec script shell tasks steps post_install hooks", "", "no commands are declared, only what is to hold: write a file, a package or a service, or use northstake act"),

	guess("host.account", "homedir home_directory", "host.account.home", ""),
	guess("host.account", "group supplementary_groups member_of", "host.account.groups", ""),
	guess("host.account", "uid gid id", "", "the system chooses the number: take it out"),
	guess("host.account", "password passwd ssh_keys authorized_keys", "", "nobody logs in with a declared account: take it out"),

	guess("host.package", "state ensure status present", "host.package.is", ""),
	guess("host.package", "ver pin release", "host.package.version", ""),
	guess("host.package", "min_version minimum min minimum_version", "host.package.at_least", ""),
	guess("host.package", "name alias", "host.package.names", ""),

	guess("host.service", "state ensure status started active", "host.service.running", ""),
	guess("host.service", "enabled enable on_boot autostart start_on_boot", "host.service.at_boot", ""),
	guess("host.service", "name alias unit", "host.service.names", ""),
	guess("host.service", "restart reload", "", "northstake act restart NAME does that now; a file says with reload or restart which services it concerns"),

	guess("host.port", "source sources allow allowed cidr networks only_from", "host.port.from", ""),
	guess("host.port", "protocol proto port", "", "the table's own name says it, as in [host.NAME.port.\"5432/tcp\"]"),

	guess("host.file", "content contents body data value", "host.file.text", ""),
	guess("host.file", "src source copy local", "host.file.from", ""),
	guess("host.file", "tmpl templated render", "host.file.template", ""),
	guess("host.file host.directory", "path dest destination name", "", "the table's own name is the path"),
	guess("host.file", "user uid", "host.file.owner", ""),
	guess("host.file", "permissions perms perm chmod permission", "host.file.mode", ""),
	guess("host.file", "notify triggers trigger handler handlers on_change", "host.file.reload", "or restart"),
	guess("host.file", "lines line section fragment managed_block", "host.file.portion", ""),
	guess("host.directory", "user uid", "host.directory.owner", ""),
	guess("host.directory", "permissions perms perm chmod permission", "host.directory.mode", ""),
	guess("host.link", "target dest destination src source path", "host.link.points_to", ""),
	guess("host.source", "uri baseurl repo mirror deb", "host.source.url", ""),
	guess("host.source", "gpgkey gpg signing_key keyring signed_by", "host.source.key", ""),
	guess("host.source", "distribution dist codename suite release", "host.source.suites", ""),
	guess("host.source", "components component sections", "host.source.parts", ""),
	guess("host.source", "os distro only", "host.source.family", ""),

	guess("host.container", "volumes volume binds bind bind_mounts mount data", "host.container.mounts", ""),
	guess("host.container", "ports port publish published expose exposed", "host.container.reached_at", ""),
	guess("host.container", "environment env env_vars envs", "host.container.variables", ""),
	guess("host.container", "env_file secrets secret_env env_secrets", "host.container.variable_secrets", ""),
	guess("host.container", "cmd args arguments exec run entrypoint", "host.container.command", "the image's entry point stays"),
	guess("host.container", "user uid run_as", "host.container.runs_as", ""),
	guess("host.container", "networks net network_mode", "host.container.network", ""),
	guess("host.container", "ip ipv4_address ip_address ipv4", "host.container.address", ""),
	guess("host.container", "restart restart_policy", "host.container.restarts", ""),
	guess("host.container", "autostart enabled enable start_on_boot", "host.container.at_boot", ""),
	guess("host.container", "limits limit resources memory mem_limit mem cpu cpus cpu_limit max", "host.container.at_most", ""),
	guess("host.container", "labels label tags annotations", "host.container.engine_labels", ""),
	guess("host.container", "healthcheck health health_cmd ready readiness liveness", "host.container.well_when", ""),
	guess("host.container", "state status running started ensure", "host.container.is", ""),
	guess("host.container", "registry_auth login pull_secret auth credentials registry_password", "host.container.image_secret", ""),
	guess("host.container", "image_name tag repository from", "host.container.image", ""),
	guess("host.container", "container_name name hostname", "", "the table's own name is the container's"),
	guess("host.container", "depends_on links requires after", "", "the order is worked out from what is declared: take it out"),
	guess("host.container", "privileged cap_add capabilities devices device gpus sysctls security_opt", "", "no such right is given to a container: run the program as a service of the host"),
	guess("host.container", "build dockerfile context", "", "images are not built here: build it, push it to a registry, and name it with image"),
	guess("host.container", "replicas scale instances count", "", "each container is declared by its own name"),
	guess("host.container.reached_at", "host_port published external host public", "host.container.reached_at.outside", ""),
	guess("host.container.reached_at", "container_port target target_port internal container port", "host.container.reached_at.inside", ""),
	guess("host.container.reached_at", "ip host_ip address bind interface", "host.container.reached_at.at", ""),
	guess("host.container.reached_at", "protocol proto", "", "these are TCP ports: take it out"),
	guess("host.container.mounts", "source src host_path path host volume bind", "host.container.mounts.from", ""),
	guess("host.container.mounts", "read_only ro rw mode", "host.container.mounts.writable", "left out, it may only read"),
	guess("host.container.at_most", "mem ram memory_limit limit", "host.container.at_most.memory", ""),
	guess("host.container.at_most", "cpu cpus cores cpu_limit", "host.container.at_most.processors", ""),

	guess("site", "hosts host targets target where deploy_to machines run_on", "site.on", ""),
	guess("site", "domain domains hostname hostnames server_name server_names fqdn aliases alias server_alias name url", "site.names", ""),
	guess("site", "redirect_from redirect_www www redirect_names", "site.redirected_names", ""),
	guess("site", "port ports bind address listen_address", "site.listen", ""),
	guess("site", "default default_server is_default fallback wildcard", "site.catch_all", ""),
	guess("site", "document_root docroot webroot public_html directory dir public home", "site.root", ""),
	guess("site", "source src files artifact deploy upload", "site.content", ""),
	guess("site", "error_page error_documents errordocument custom_errors not_found", "site.error_pages", ""),
	guess("site", "gzip compression brotli deflate zip", "site.compress", ""),
	guess("site", "encoding default_charset", "site.charset", ""),
	guess("site", "access_log error_log logs logging log_file", "site.log", ""),
	guess("site", "location locations routes route paths handlers handle", "site.path", ""),
	guess("site", "proxy proxy_pass reverse_proxy upstream upstreams backend backends", "site.path.passed_to", ""),
	guess("site", "redirect redirects rewrite rewrites return", "site.path.moved_to", ""),
	guess("site", "respond response", "site.path.says", ""),
	guess("site", "ssl tls cert certificates ssl_certificate acme letsencrypt", "site.certificate", ""),
	guess("site", "hsts", "site.https.remembered", ""),
	guess("site.listen", "ssl tls secure", "site.listen.https", ""),
	guess("site", "healthcheck check checks probes monitor monitoring test tests", "site.probe", ""),
	guess("site", "maintenance maintenance_page maintenance_mode offline downtime under_construction unavailable", "site.closed", ""),
	guess("site", "enabled enable disabled active state", "site.served", ""),
	guess("site", "php_fpm fastcgi fpm php_version", "site.php", ""),
	guess("site", "webserver software engine type", "site.server", ""),
	guess("site", "docker_image container docker", "site.image", ""),
	guess("site", "dotfiles hidden_files allow_hidden", "site.serve_dot_files", ""),
	guess("site", "env environment variables vars", "site.givens", "they are for the text of kits; php gets none"),
	guess("site", "kit extends template profile role roles", "site.kits", ""),
	guess("site", "owner user group permissions mode", "site.content.owner", ""),

	guess("site site.path", "index_files directory_index default_document indexes index_file", "site.index", ""),
	guess("site site.path", "autoindex directory_browsing browse browsing dir_listing listing", "site.directory_listing", ""),
	guess("site site.path", "try_files spa single_page not_found_page front_controller fallback_page history_fallback", "site.otherwise", ""),
	guess("site site.path", "basic_auth auth htpasswd users authentication http_auth login", "site.passwords", "northstake password makes the hash"),
	guess("site site.path", "htpasswd_file auth_file user_file", "site.passwords_secret", ""),
	guess("site site.path", "allow allowed allowed_ips allowlist allow_from ip_allow", "site.from", ""),
	guess("site site.path", "deny denied blocked blocklist denylist deny_from block ip_deny", "site.not_from", ""),
	guess("site site.path", "client_max_body_size max_body_size upload_limit max_upload body_limit limit_body max_request_size", "site.largest_body", ""),
	guess("site site.path", "add_header response_headers custom_headers header set_header cors csp security_headers", "site.headers", ""),
	guess("site site.path", "cache cache_control expires caching max_age ttl cache_for", "site.browser_cache", ""),
	guess("site site.path", "extra_config custom config snippet include extra directives custom_config", "site.raw", ""),
	guess("site site.path", "rate_limit limit_req throttle limits websocket http2 timeout keepalive", "site.raw", "there is no key for it; raw takes the server's own lines"),

	guess("site.path", "alias document_root docroot directory dir", "site.path.root", ""),
	guess("site.path", "files source src", "site.path.content", ""),
	guess("site.path", "proxy proxy_pass reverse_proxy backend backends upstream upstreams servers target targets forward", "site.path.passed_to", ""),
	guess("site.path", "redirect redirect_to location rewrite moved", "site.path.moved_to", ""),
	guess("site.path", "code status_code redirect_code", "site.path.status", ""),
	guess("site.path", "return respond response body text", "site.path.says", ""),
	guess("site.path", "content_type media_type mime mime_type", "site.path.type", ""),
	guess("site.path", "load_balancing balance lb lb_policy policy strategy balancing method", "site.path.passing", ""),
	guess("site.path", "strip_prefix strip_path strip handle_path rewrite_path", "site.path.passed_path", ""),
	guess("site.path", "read_timeout proxy_timeout response_timeout proxy_read_timeout", "site.path.answers_in", ""),
	guess("site.path", "connect_timeout proxy_connect_timeout", "site.path.connects_in", ""),
	guess("site.path", "forwarded_headers x_forwarded x_forwarded_for proxy_headers preserve_host forward_headers", "site.path.visitor_headers", ""),
	guess("site.path", "keep_query args query_string", "site.path.query", ""),

	guess("site.content site.path.content host.content", "src source directory local files path", "site.content.dir", ""),
	guess("site.content site.path.content host.content", "tar zip tarball artifact package", "site.content.archive", ""),
	guess("site.content site.path.content host.content", "http https link download uri", "site.content.url", ""),
	guess("site.content site.path.content host.content", "checksum sha hash digest sum", "site.content.sha256", ""),
	guess("site.content site.path.content host.content", "repo repository git_url clone", "site.content.git", ""),
	guess("site.content site.path.content host.content", "ref branch tag commit revision version rev", "site.content.at", ""),
	guess("site.content site.path.content host.content", "token auth credentials deploy_key ssh_key git_token", "site.content.fetch_secret", ""),
	guess("site.content site.path.content host.content", "subdir subfolder subdirectory strip strip_components subpath", "site.content.folder", ""),
	guess("site.content site.path.content host.content", "ignore exclude excludes skip preserve protect", "site.content.left_alone", ""),
	guess("site.content site.path.content host.content", "prune purge delete clean mirror extra_files delete_extra", "site.content.undeclared_files", ""),
	guess("site.content site.path.content host.content", "user uid", "site.content.owner", ""),
	guess("site.content site.path.content host.content", "mode permissions perms chmod umask", "site.content.modes", ""),

	guess("site.log", "access_log file path requests", "site.log.access", ""),
	guess("site.log", "error_log stderr error_file", "site.log.error", ""),
	guess("site.log", "format log_format style", "site.log.form", ""),
	guess("site.listen", "addr ip host bind interface", "site.listen.address", ""),

	guess("site.probe host.container.probe", "url uri endpoint location_path", "site.probe.path", ""),
	guess("site.probe host.container.probe", "verb http_method", "site.probe.method", ""),
	guess("site.probe host.container.probe", "data payload post", "site.probe.body", ""),
	guess("site.probe host.container.probe", "timeout max_time deadline", "site.probe.within", ""),
	guess("site.probe host.container.probe", "code status_code expect expected_status expect_status expected http_code", "site.probe.status", ""),
	guess("site.probe host.container.probe", "body_contains text expect_text string expect_body", "site.probe.contains", ""),
	guess("site.probe host.container.probe", "regex regexp pattern expect_regex", "site.probe.matches", ""),
	guess("site.probe host.container.probe", "redirect follow follow_redirects redirects", "site.probe.follows", ""),
	guess("site.probe host.container.probe", "expect_headers response_headers header expected_headers", "site.probe.shows", ""),
	guess("site.probe host.container.probe", "location final_url effective_url", "site.probe.ends_at", ""),
	guess("site.probe host.container.probe", "dns nameserver dns_server via", "site.probe.resolver", ""),
	guess("site.probe host.container.probe", "host where source region", "site.probe.from", ""),
	guess("site.probe host.container.probe", "interval every period frequency retries schedule", "", "probes are made after every run and by northstake probe: take it out"),
}

// Values are trade words that people guess as values.
var Values = []Value{
	{"site.server", []string{"apache", "apache2", "apache24"}, "httpd", ""},
	{"site.server", []string{"caddy2", "caddyserver"}, "caddy", ""},
	{"host.package.is", []string{"present", "install", "yes"}, "installed", ""},
	{"host.package.is", []string{"absent", "removed", "purged", "uninstalled"}, "gone", ""},
	{"host.package.is", []string{"latest", "upgraded", "newest-version"}, "newest", ""},
	{"host.container.is", []string{"started", "up", "present", "running-now"}, "running", ""},
	{"host.container.is", []string{"down", "exited", "stop", "created"}, "stopped", ""},
	{"host.container.is", []string{"absent", "removed", "gone"}, "", "take its table out, and northstake plan --clear takes it away"},
	{"host.container.restarts", []string{"unless-stopped", "yes", "true", "on"}, "always", ""},
	{"host.container.restarts", []string{"no", "none", "off", "false"}, "never", ""},
	{"host.container.restarts", []string{"failure", "on-error", "onfailure"}, "on-failure", ""},
	{"host.port", []string{"a whole number"}, "", "where the SSH server listens goes into a table of the host, as reach = { port = … }; a port that is to be let in is written as in ports = [\"8080/tcp\"]"},
	{"host.inbound", []string{"closed", "deny", "drop", "block", "reject", "restricted", "default-deny"}, "declared", ""},
	{"host.inbound", []string{"open", "allow", "accept", "all", "off", "none"}, "any", ""},
	{"host.via", []string{"localhost", "self", "here", "this"}, "service-machine", ""},
	{"host.via", []string{"docker", "podman", "engine", "exec"}, "container", ""},
	{"host.via", []string{"remote", "openssh"}, "ssh", ""},
	{"site.content.undeclared_files", []string{"keep", "ignore", "report"}, "kept", ""},
	{"site.content.undeclared_files", []string{"delete", "deleted", "remove", "purge", "prune"}, "removed", ""},
	{"ground.no_longer_declared", []string{"keep", "ignore", "report"}, "kept", ""},
	{"ground.no_longer_declared", []string{"delete", "deleted", "remove", "purge", "prune"}, "removed", ""},
	{"site.path.passing", []string{"roundrobin", "rr", "random", "balanced", "turns"}, "round-robin", ""},
	{"site.path.passing", []string{"fallback", "backup", "active-passive", "primary", "first"}, "failover", ""},
	{"site.path.passed_path", []string{"keep", "kept", "same", "full"}, "unchanged", ""},
	{"site.path.passed_path", []string{"strip", "stripped", "trimmed", "relative"}, "shortened", ""},
	{"site.log.form", []string{"clf", "text", "plain"}, "common", ""},
	{"host.server.default_site", []string{"disabled", "disable", "inactive"}, "off", ""},
	{"host.server.default_site", []string{"deleted", "delete", "remove"}, "removed", ""},
	{"host.server.default_site", []string{"keep", "on", "enabled"}, "kept", ""},
}

// Commands are trade words that people guess as commands.
var Commands = []Command{
	{[]string{"list", "ls", "get"}, []string{"hosts", "grounds"}},
	{[]string{"validate", "check", "verify", "fmt"}, []string{"lint"}},
	{[]string{"diff", "status", "compare", "preview", "dry-run"}, []string{"plan", "drift"}},
	{[]string{"init", "create", "start-project", "scaffold"}, []string{"new"}},
	{[]string{"push", "upload", "commit", "import"}, []string{"declare"}},
	{[]string{"deploy", "up", "run", "sync", "provision", "exec-plan", "execute"}, []string{"apply"}},
	{[]string{"undo", "rollback", "revert", "abort", "stop"}, []string{"cancel", "restore"}},
	{[]string{"fix", "repair", "heal", "reset"}, []string{"restore"}},
	{[]string{"login", "auth", "config", "configure"}, []string{"connect"}},
	{[]string{"logs", "log", "follow", "tail"}, []string{"watch", "runs"}},
	{[]string{"history", "events"}, []string{"runs"}},
	{[]string{"describe", "info", "inspect", "host"}, []string{"show"}},
	{[]string{"delete", "remove", "destroy", "down", "rm", "uninstall", "decommission"}, []string{"retire", "forget"}},
	{[]string{"restart", "reload", "upgrade", "reboot", "update"}, []string{"act"}},
	{[]string{"install", "add", "enable", "set"}, []string{"bring"}},
	{[]string{"test", "ping", "curl", "health"}, []string{"probe"}},
	{[]string{"scan", "discover", "refresh", "gather"}, []string{"survey"}},
	{[]string{"accept-key", "known-hosts", "keys", "fingerprint"}, []string{"trust"}},
	{[]string{"vault", "secrets", "encrypt"}, []string{"secret"}},
	{[]string{"htpasswd", "hash"}, []string{"password"}},
	{[]string{"dns", "hosts-file", "etc-hosts"}, []string{"addresses"}},
	{[]string{"doc", "docs", "man", "explain", "keys-of"}, []string{"help"}},
	{[]string{"retry", "continue"}, []string{"resume"}},
	{[]string{"user", "users", "tokens", "apikey"}, []string{"token"}},
}

// Plain is a word without what is only a way of writing it: "documentRoot" and
// "document-root" are both "documentroot".
func Plain(word string) string {
	return strings.Map(func(r rune) rune {
		if r == '_' || r == '-' || r == ' ' || r == '.' {
			return -1
		}
		return unicode.ToLower(r)
	}, word)
}

// among says whether a word is one of a list, however it is written.
func among(word string, list []string) bool {
	return slices.ContainsFunc(list, func(w string) bool { return Plain(w) == Plain(word) })
}

// TableOf is how Guesses name a table: that of a kit is one of hosts, or of sites.
func TableOf(table string) string {
	if rest, ok := strings.CutPrefix(table, "kit.site"); ok && (rest == "" || rest[0] == '.') {
		return "site" + rest
	}
	if rest, ok := strings.CutPrefix(table, "kit"); ok && (rest == "" || rest[0] == '.') {
		return "host" + rest
	}
	return table
}

// Guessed is what a trade word means as a key of a table; false where it is none.
func Guessed(table, word string) (Guess, bool) {
	table = TableOf(table)
	for _, g := range Guesses {
		if slices.Contains(g.In, table) && among(word, g.Words) {
			return g, true
		}
	}
	return Guess{}, false
}

// GuessedAnywhere are the guesses of a word in whatever table, those first that mean a key.
func GuessedAnywhere(word string) []Guess {
	var keys, rest []Guess
	for _, g := range Guesses {
		switch {
		case !among(word, g.Words):
		case g.Key != "":
			keys = append(keys, g)
		default:
			rest = append(rest, g)
		}
	}
	return append(keys, rest...)
}

// GuessedValue is what a trade word means as the value of a key; false where it is none.
func GuessedValue(key, word string) (Value, bool) {
	key = TableOf(key)
	for _, v := range Values {
		if v.Of == key && among(word, v.Words) {
			return v, true
		}
	}
	return Value{}, false
}

// GuessedCommand are the commands that a trade word means, none where it means none.
func GuessedCommand(word string) []string {
	for _, c := range Commands {
		if among(word, c.Words) {
			return c.Means
		}
	}
	return nil
}
