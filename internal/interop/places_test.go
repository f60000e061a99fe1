//go:build interop

package interop

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// whole is what is written back to places that take a field: the finding, in words of their own.
func fieldStep(name string) contract.WriteBackStep {
	return contract.WriteBackStep{Act: "field", Name: name, Of: "finding", Values: map[string]string{"undeliverable": "unzustellbar"}}
}

func kept(name string) contract.WriteBackStep {
	return contract.WriteBackStep{Act: "collection", Name: name, Decisions: []string{"keep"}}
}

// tool runs a program, and returns what it writes.
func tool(t *testing.T, in, name string, args ...string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdin = strings.NewReader(in)
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	if err := cmd.Run(); err != nil {
		t.Fatalf("%s %s: %v: %s", name, strings.Join(args, " "), err, tail(said.String(), 5))
	}
	return out.String()
}

func writeFile(t *testing.T, name, text string) string {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return name
}

// openLDAP is OpenLDAP's slapd, filled by slapadd and asked by ldapsearch.
func openLDAP(t *testing.T, all []somebody) realPlace {
	dir, at := t.TempDir(), fmt.Sprintf("127.0.0.1:%d", free())
	base, root, pass := "dc=fernhollow,dc=example", "cn=varnet,dc=fernhollow,dc=example", "quince"
	if err := os.Mkdir(dir+"/db", 0o700); err != nil {
		t.Fatal(err)
	}
	conf := writeFile(t, dir+"/slapd.conf", fmt.Sprintf(`include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
moduleload back_mdb.la
modulepath /usr/lib/ldap
sizelimit 500
database mdb
maxsize 268435456
directory %s/db
suffix "%s"
rootdn "%s"
rootpw %s
dbnosync
index entryUUID,objectClass,mail eq
`, dir, base, root, pass))
	var ldif strings.Builder
	fmt.Fprintf(&ldif, "dn: %s\nobjectClass: dcObject\nobjectClass: organization\no: Fernhollow\ndc: fernhollow\n\ndn: ou=people,%[1]s\nobjectClass: organizationalUnit\nou: people\n\ndn: ou=groups,%[1]s\nobjectClass: organizationalUnit\nou: groups\n\n", base)
	var members strings.Builder
	contacts := 0
	for _, p := range all {
		fmt.Fprintf(&ldif, "dn: uid=p%d,ou=people,%s\nobjectClass: inetOrgPerson\nuid: p%[1]d\ncn:: %s\nsn: x\ndescription:: %s\n", p.number, base, base64.StdEncoding.EncodeToString([]byte(p.name)), base64.StdEncoding.EncodeToString([]byte(p.note)))
		for _, a := range p.addresses {
			fmt.Fprintf(&ldif, "mail: %s\n", a)
		}
		ldif.WriteString("\n")
		if len(p.addresses) > 0 { // the filter finds those
			contacts++
			fmt.Fprintf(&members, "member: uid=p%d,ou=people,%s\n", p.number, base)
		}
	}
	fmt.Fprintf(&ldif, "dn: cn=members,ou=groups,%s\nobjectClass: groupOfNames\ncn: members\n%s\n", base, members.String())
	tool(t, ldif.String(), "/usr/sbin/slapadd", "-q", "-f", conf)
	background(t, "/usr/sbin/slapd", "-f", conf, "-h", "ldap://"+at, "-d", "0")
	awaitPort(t, at)
	ask := func(args ...string) string {
		return tool(t, "", "ldapsearch", append([]string{"-x", "-LLL", "-o", "ldif-wrap=no", "-E", "pr=500/noprompt", "-H", "ldap://" + at, "-D", root, "-w", pass, "-b", base}, args...)...)
	}
	entries := func(text string) map[string]string {
		out := map[string]string{}
		for _, e := range strings.Split(strings.TrimSpace(text), "\n\n") {
			var lines []string
			dn := ""
			for _, l := range strings.Split(e, "\n") {
				if strings.HasPrefix(l, "dn: ") {
					dn = l[4:]
				} else if l != "" && !strings.HasPrefix(l, "#") {
					lines = append(lines, l)
				}
			}
			if dn != "" { // the last block is about the pages
				out[dn] = strings.Join(lines, "\n") + "\n"
			}
		}
		return out
	}
	dnOf := func(address string) string {
		for dn := range entries(ask("(mail="+address+")", "1.1")) {
			return dn
		}
		return ""
	}
	uuids := map[string]string{}
	for dn, text := range entries(ask("(mail=*)", "entryUUID")) {
		uuids[strings.TrimSpace(strings.TrimPrefix(text, "entryUUID: "))] = dn
	}
	return realPlace{kind: "directory", collection: "members", contacts: contacts,
		settings: map[string]string{"address": "ldap://" + at, "tls": "no", "user": root, "password": pass, "base": "ou=people," + base, "filter": "(mail=*)", "groups": "ou=groups," + base},
		steps:    []contract.WriteBackStep{fieldStep("employeeType"), kept("Spring, deliverable")},
		state:    func(*testing.T) map[string]string { return entries(ask("(objectClass=*)")) },
		shown: func(_ *testing.T, state map[string]string, step int, it contract.WriteBackItem) string {
			dn := uuids[it.Key]
			if step == 1 {
				return yes(strings.Contains(state[`cn=Spring\2C deliverable,ou=groups,`+base], "member: "+dn+"\n"))
			}
			_, after, _ := strings.Cut(state[dn], "employeeType: ")
			v, _, _ := strings.Cut(after, "\n")
			return v
		},
		remove: func(t *testing.T, a string) {
			tool(t, "", "ldapdelete", "-x", "-H", "ldap://"+at, "-D", root, "-w", pass, dnOf(a))
		},
		change: func(t *testing.T, a string) {
			tool(t, fmt.Sprintf("dn: %s\nchangetype: modify\nreplace: mail\nmail: moved@elsewhere.example\n", dnOf(a)), "ldapmodify", "-x", "-H", "ldap://"+at, "-D", root, "-w", pass)
		}}
}

func yes(is bool) string {
	if is {
		return "yes"
	}
	return ""
}

// radicale is the address book server Radicale, whose cards are files.
func radicale(t *testing.T, all []somebody) realPlace {
	dir, at := publicDir(t, "books"), fmt.Sprintf("127.0.0.1:%d", free())
	conf := writeFile(t, dir+"/config", fmt.Sprintf("[server]\nhosts = %s\n[auth]\ntype = htpasswd\nhtpasswd_filename = %s/users\nhtpasswd_encryption = plain\n[storage]\nfilesystem_folder = %[2]s/storage\n[logging]\nlevel = warning\n", at, dir))
	writeFile(t, dir+"/users", "ada:quince\n")
	books := dir + "/storage/collection-root/ada"
	writeFile(t, books+"/members/.Radicale.props", `{"tag": "VADDRESSBOOK", "D:displayname": "Members"}`)
	for _, p := range all {
		var c strings.Builder
		fmt.Fprintf(&c, "BEGIN:VCARD\r\nVERSION:3.0\r\nUID:p%d\r\nFN:%s\r\nN:%[2]s;;;;\r\nX-SHELF:%[1]d\r\n", p.number, p.name)
		for _, a := range p.addresses {
			fmt.Fprintf(&c, "EMAIL;TYPE=INTERNET:%s\r\n", a)
		}
		fmt.Fprintf(&c, "NOTE:%s\r\nEND:VCARD\r\n", strings.NewReplacer("\n", `\n`, ",", `\,`, ";", `\;`).Replace(p.note))
		writeFile(t, fmt.Sprintf("%s/members/p%d.vcf", books, p.number), c.String())
	}
	background(t, "radicale", "--config", conf)
	awaitPort(t, at)
	file := func(address string) string {
		found, _ := exec.Command("grep", "-rlF", ":"+address+"\r", books+"/members", "--include=*.vcf", "--exclude-dir=.Radicale.cache").Output() // none is not an error here
		return strings.TrimSpace(strings.SplitN(string(found), "\n", 2)[0])
	}
	return realPlace{kind: "address-book", collection: "Members", contacts: len(all),
		settings: map[string]string{"address": "http://" + at + "/", "user": "ada", "password": "quince"},
		// The server looks at all cards for each that is put: not all of them are written.
		steps: []contract.WriteBackStep{{Act: "field", Name: "mail state", Of: "cause", Findings: []string{"undeliverable"}}, {Act: "tag", Name: "ask them", Decisions: []string{"hold"}},
			{Act: "collection", Name: "Spring, undecided", Findings: []string{"undecided"}}},
		state: func(t *testing.T) map[string]string {
			out := map[string]string{}
			err := filepath.WalkDir(books, func(name string, e os.DirEntry, err error) error {
				if err == nil && e.IsDir() && e.Name() == ".Radicale.cache" {
					return filepath.SkipDir
				}
				if err == nil && strings.HasSuffix(name, ".vcf") {
					var text []byte
					if text, err = os.ReadFile(name); err == nil {
						lines := strings.Split(strings.ReplaceAll(string(text), "\r\n ", ""), "\r\n")
						slices.Sort(lines) // the server gives them an order of its own
						out[strings.TrimPrefix(name, books)] = strings.Join(lines, "\n") + "\n"
					}
				}
				return err
			})
			if err != nil {
				t.Fatal(err)
			}
			return out
		},
		shown: func(_ *testing.T, state map[string]string, step int, it contract.WriteBackItem) string {
			path := strings.TrimPrefix(it.Key, "/ada")
			switch step {
			case 0:
				_, after, _ := strings.Cut(state[path], "\nX-MAIL-STATE:")
				v, _, _ := strings.Cut(after, "\n")
				return v
			case 1:
				return yes(strings.Contains(state[path], "\nCATEGORIES:ask them\n"))
			}
			return yes(state["/spring--undecided/"+filepath.Base(path)] != "")
		},
		remove: func(t *testing.T, a string) {
			tool(t, "", "curl", "-sSf", "-u", "ada:quince", "-X", "DELETE", "http://"+at+"/ada/members/"+filepath.Base(file(a)))
		},
		change: func(t *testing.T, a string) {
			name := file(a)
			text, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			tool(t, strings.ReplaceAll(string(text), ":"+a+"\r", ":moved@elsewhere.example\r"), "curl", "-sSf", "-u", "ada:quince", "-X", "PUT", "--data-binary", "@-", "-H", "Content-Type: text/vcard", "http://"+at+"/ada/members/"+filepath.Base(name))
		}}
}

// mailman is Mailman 3, whose own command shows the members.
func mailman(t *testing.T, all []somebody) realPlace {
	dir, rest := publicDir(t, "lists"), free()
	conf := writeFile(t, dir+"/mailman.cfg", fmt.Sprintf(`[mailman]
site_owner: postmaster@lists.fernhollow.example
layout: here
[paths.here]
var_dir: %[1]s/var
bin_dir: /usr/lib/mailman3/bin
queue_dir: $var_dir/queue
list_data_dir: $var_dir/lists
log_dir: $var_dir/logs
lock_dir: $var_dir/locks
data_dir: $var_dir/data
cache_dir: $var_dir/cache
etc_dir: $var_dir/etc
ext_dir: $var_dir/ext
messages_dir: $var_dir/messages
archive_dir: $var_dir/archives
template_dir: $var_dir/templates
pid_file: $var_dir/master.pid
lock_file: $lock_dir/master.lck
[database]
class: mailman.database.sqlite.SQLiteDatabase
url: sqlite:///%[1]s/mailman.db
[mta]
incoming: mailman.mta.null.NullMTA
[webservice]
hostname: 127.0.0.1
port: %[2]d
admin_user: restadmin
admin_pass: quince
workers: 1
`, dir, rest))
	writeFile(t, dir+"/var/x", "")
	var members strings.Builder
	contacts := 0
	for _, p := range all {
		if len(p.addresses) > 0 && contacts < contactsEach {
			contacts++
			fmt.Fprintf(&members, "%s <%s>\n", strings.NewReplacer("<", "", ">", "", `"`, "").Replace(p.name), p.addresses[0])
		}
	}
	writeFile(t, dir+"/members", members.String())
	tool(t, "", "chown", "-R", "list:list", dir)
	as := func(in string, args ...string) string {
		return tool(t, in, "setpriv", append([]string{"--reuid", "list", "--regid", "list", "--clear-groups", "env", "MAILMAN_CONFIG_FILE=" + conf, "LC_ALL=C.UTF-8"}, args...)...)
	}
	const list = "members@lists.fernhollow.example"
	as("", "mailman", "create", list)
	as("", "mailman", "addmembers", "-W", dir+"/members", list)
	background(t, "setpriv", "--reuid", "list", "--regid", "list", "--clear-groups", "env", "LC_ALL=C.UTF-8", "/usr/lib/mailman3/bin/runner", "-C", conf, "-r", "rest:0:1")
	awaitPort(t, fmt.Sprintf("127.0.0.1:%d", rest))
	api := fmt.Sprintf("http://127.0.0.1:%d/3.1", rest)
	const spring = "spring@lists.fernhollow.example"
	return realPlace{kind: "mailing-lists", collection: list, contacts: contacts,
		settings: map[string]string{"address": api, "user": "restadmin", "password": "quince"},
		steps:    []contract.WriteBackStep{{Act: "disable", Findings: []string{"undeliverable"}}, {Act: "remove", Decisions: []string{"hold"}}, kept(spring)},
		state: func(*testing.T) map[string]string {
			out := map[string]string{}
			lists := as("", "mailman", "lists", "-q")
			for _, l := range []string{list, spring} {
				if !strings.Contains(lists, l) {
					continue
				}
				for _, who := range strings.Fields(as("", "mailman", "members", l, "--email-only")) {
					out[l+" "+strings.ToLower(who)] = "enabled"
				}
				for _, who := range strings.Fields(as("", "mailman", "members", l, "--email-only", "--nomail", "byadmin")) {
					if strings.Contains(who, "@") {
						out[l+" "+strings.ToLower(who)] = "disabled"
					}
				}
			}
			return out
		},
		shown: func(_ *testing.T, state map[string]string, step int, it contract.WriteBackItem) string {
			who := strings.ToLower(it.Addresses[0])
			switch step {
			case 0:
				return yes(state[list+" "+who] == "disabled")
			case 1:
				return yes(it.State == "done" && state[list+" "+who] == "")
			}
			return yes(state[spring+" "+who] != "")
		},
		remove: func(t *testing.T, a string) { as("", "mailman", "delmembers", "-m", a, "-l", list, "-N", "-G") },
		change: func(t *testing.T, a string) { // who leaves and comes again is another member
			as("", "mailman", "delmembers", "-m", a, "-l", list, "-N", "-G")
			as("moved@elsewhere.example\n", "mailman", "addmembers", "-W", "-", list)
		}}
}

var insertion = strings.NewReplacer("'", "''", `\`, `\\`)

// sqlPlace is what both databases have in common.
func sqlPlace(engine string, settings map[string]string, contacts int, ask func(t *testing.T, sql string) string) realPlace {
	settings["engine"], settings["tls"], settings["key"], settings["addresses"] = engine, "no", "id", "email,email2"
	settings["queries"] = "-- Members\nSELECT id, email, email2, name, note, mail_state AS \"mail state\" FROM members WHERE here"
	if engine == "MariaDB" {
		settings["queries"] = strings.ReplaceAll(settings["queries"], `"`, "`")
	}
	settings["statements"] = "-- mail state\nUPDATE members SET mail_state = {value} WHERE id = {key};"
	return realPlace{kind: "database", collection: "Members", contacts: contacts, settings: settings, steps: []contract.WriteBackStep{fieldStep("mail state")},
		state: func(t *testing.T) map[string]string {
			out := map[string]string{}
			for _, line := range strings.Split(strings.TrimSpace(ask(t, "SELECT id, coalesce(mail_state, '-'), coalesce(email, '-'), md5(concat(name, coalesce(email2, ''), note)) FROM members ORDER BY id")), "\n") {
				cells := strings.Split(line, "\t")
				out[cells[0]] = strings.Join(cells[1:], "\t")
			}
			return out
		},
		shown: func(_ *testing.T, state map[string]string, _ int, it contract.WriteBackItem) string {
			v, _, _ := strings.Cut(state[it.Key], "\t")
			return strings.TrimPrefix(v, "-")
		},
		remove: func(t *testing.T, a string) { ask(t, "DELETE FROM members WHERE email = '"+insertion.Replace(a)+"'") },
		change: func(t *testing.T, a string) {
			ask(t, "UPDATE members SET email = 'moved@elsewhere.example' WHERE email = '"+insertion.Replace(a)+"'")
		}}
}

// insertions are statements that fill the table.
func insertions(all []somebody) []string {
	out := []string{"CREATE TABLE members (id bigint PRIMARY KEY, email varchar(300), email2 varchar(300), name varchar(200), note text, mail_state varchar(40), here boolean NOT NULL DEFAULT true)"}
	for n := 0; n < len(all); n += 500 {
		var rows []string
		for _, p := range all[n:min(len(all), n+500)] {
			email, second := "NULL", "NULL"
			if len(p.addresses) > 0 {
				email = "'" + p.addresses[0] + "'"
			}
			if len(p.addresses) > 1 {
				second = "'" + p.addresses[1] + "'"
			}
			rows = append(rows, fmt.Sprintf("(%d, %s, %s, '%s', '%s', NULL, true)", p.number, email, second, strings.ReplaceAll(p.name, "'", "''"), strings.ReplaceAll(p.note, "'", "''")))
		}
		out = append(out, "INSERT INTO members VALUES "+strings.Join(rows, ", "))
	}
	return out
}

// postgreSQL is a database of PostgreSQL, asked by psql's protocol.
func postgreSQL(t *testing.T, all []somebody) realPlace {
	dsn := testkit.EmptyDatabase(t)
	conn, err := pgx.Connect(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	for _, s := range insertions(all) {
		if _, err := conn.Exec(t.Context(), s); err != nil {
			t.Fatal(err)
		}
	}
	c := conn.Config()
	return sqlPlace("PostgreSQL", map[string]string{"host": fmt.Sprintf("%s:%d", c.Host, c.Port), "database": c.Database, "user": c.User, "password": c.Password}, len(all),
		func(t *testing.T, sql string) string { return tool(t, sql, "psql", dsn, "-AtX", "-F", "\t") })
}

// mariaDB is MariaDB, asked by its own client.
func mariaDB(t *testing.T, all []somebody) realPlace {
	dir, port := publicDir(t, "mariadb"), free()
	tool(t, "", "mariadb-install-db", "--no-defaults", "--user=root", "--datadir="+dir+"/data", "--auth-root-authentication-method=normal", "--skip-test-db")
	background(t, "/usr/sbin/mariadbd", "--no-defaults", "--user=root", "--datadir="+dir+"/data", "--socket="+dir+"/socket", fmt.Sprintf("--port=%d", port), "--bind-address=127.0.0.1", "--innodb-flush-log-at-trx-commit=0", "--character-set-server=utf8mb4")
	awaitPort(t, fmt.Sprintf("127.0.0.1:%d", port))
	ask := func(t *testing.T, sql string) string {
		return tool(t, sql, "mariadb", "--no-defaults", "--socket="+dir+"/socket", "-u", "root", "-N", "-B", "--default-character-set=utf8mb4", "members")
	}
	tool(t, "CREATE DATABASE members CHARACTER SET utf8mb4; CREATE USER varnet@'127.0.0.1' IDENTIFIED BY 'quince'; GRANT SELECT, UPDATE ON members.* TO varnet@'127.0.0.1';", "mariadb", "--no-defaults", "--socket="+dir+"/socket", "-u", "root")
	ask(t, "SET sql_mode='NO_BACKSLASH_ESCAPES';\n"+strings.Join(insertions(all), ";\n")+";")
	return sqlPlace("MariaDB", map[string]string{"host": fmt.Sprintf("127.0.0.1:%d", port), "database": "members", "user": "varnet", "password": "quince"}, len(all), ask)
}
