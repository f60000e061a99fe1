//go:build interop

package interop

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// openSSH is OpenSSH's server, which gives and takes files by SFTP.
func openSSH(t *testing.T, dir string) (settings map[string]string, fingerprint string) {
	keys, port := t.TempDir(), free()
	for _, name := range []string{"host", "varnet"} {
		tool(t, "", "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(keys, name))
	}
	authorized, err := os.ReadFile(keys + "/varnet.pub")
	if err != nil {
		t.Fatal(err)
	}
	writeFile(t, keys+"/authorized", string(authorized))
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		t.Fatal(err)
	}
	conf := writeFile(t, keys+"/sshd_config", fmt.Sprintf("ListenAddress 127.0.0.1:%d\nHostKey %s/host\nAuthorizedKeysFile %[2]s/authorized\nStrictModes no\nUsePAM no\nPidFile none\nPermitRootLogin prohibit-password\nSubsystem sftp internal-sftp\nForceCommand internal-sftp -d %s\n", port, keys, dir))
	background(t, "/usr/sbin/sshd", "-D", "-e", "-f", conf)
	awaitPort(t, fmt.Sprintf("127.0.0.1:%d", port))
	private, err := os.ReadFile(keys + "/varnet")
	if err != nil {
		t.Fatal(err)
	}
	return map[string]string{"where": "SFTP", "address": fmt.Sprintf("sftp://127.0.0.1:%d", port), "user": "root", "privateKey": string(private), "pattern": "members*.csv"},
		strings.Fields(tool(t, "", "ssh-keygen", "-lf", keys+"/host.pub"))[1]
}

// apache is Apache with mod_dav, which gives and takes files by WebDAV.
func apache(t *testing.T, dir string) map[string]string {
	conf, port := publicDir(t, "apache"), free()
	var modules strings.Builder
	for _, m := range []string{"mpm_event", "dav", "dav_fs", "dav_lock", "auth_basic", "authn_core", "authn_file", "authz_core", "authz_user", "dir"} {
		fmt.Fprintf(&modules, "LoadModule %s_module /usr/lib/apache2/modules/mod_%[1]s.so\n", m)
	}
	writeFile(t, conf+"/users", "ada:"+strings.TrimSpace(tool(t, "", "openssl", "passwd", "-apr1", "quince"))+"\n")
	if err := os.Mkdir(conf+"/locks", 0o777); err != nil {
		t.Fatal(err)
	}
	tool(t, "", "chmod", "-R", "a+rwX", dir, conf)
	writeFile(t, conf+"/apache.conf", fmt.Sprintf("%sServerRoot %s\nServerName localhost\nListen 127.0.0.1:%d\nPidFile %[2]s/pid\nErrorLog %[2]s/error.log\nUser nobody\nGroup nogroup\nDavLockDB %[2]s/locks/lock\nDocumentRoot %[4]s\n"+
		"<Directory %[4]s>\nDav On\nAuthType Basic\nAuthName files\nAuthUserFile %[2]s/users\nRequire valid-user\n</Directory>\n", modules.String(), conf, port, dir))
	background(t, "/usr/sbin/apache2", "-DFOREGROUND", "-f", conf+"/apache.conf")
	awaitPort(t, fmt.Sprintf("127.0.0.1:%d", port))
	return map[string]string{"where": "WebDAV", "address": fmt.Sprintf("http://127.0.0.1:%d/", port), "user": "ada", "password": "quince", "pattern": "members*.csv"}
}

// TestFileConnections: the newest file of a pattern comes in by SFTP and WebDAV, and the kept rows
// go out, whole or not at all.
func TestFileConnections(t *testing.T) {
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api := client.New(s.URL, s.Key)
	hold := func(t *testing.T, dir string, settings map[string]string) {
		t.Helper()
		ctx := t.Context()
		var list bytes.Buffer
		if err := i.World.WriteList(&list, 400); err != nil {
			t.Fatal(err)
		}
		writeFile(t, dir+"/members-2026-10.csv", "E-mail\nold@fernhollow.example\n")
		newest := writeFile(t, dir+"/members-2026-11.csv", list.String())
		at := time.Now().Add(time.Minute)
		if err := os.Chtimes(newest, at, at); err != nil {
			t.Fatal(err)
		}
		tool(t, "", "chmod", "-R", "a+rwX", dir)
		c, err := api.MakeConnection(ctx, contract.NewConnection{Name: t.Name(), Kind: "files", Settings: settings})
		if err != nil || !c.Works || !strings.Contains(c.Says, "is members-2026-11.csv, of "+say.Plural(int64(list.Len()), "byte", "bytes")) {
			t.Fatalf("%v: %s", err, c.Says)
		}
		begun, err := api.BeginImport(ctx, c.ID, contract.NewImport{Collection: "members*.csv", Name: "Members"})
		for err == nil && begun.EndedAt == nil {
			time.Sleep(100 * time.Millisecond)
			begun, err = api.ImportByID(ctx, begun.ID)
		}
		if err != nil || begun.State != "done" || begun.Contacts != 400 {
			t.Fatalf("%v: %+v", err, begun)
		}
		run, err := api.StartRun(ctx, begun.ListID, contract.NewRun{ReuseDays: 7})
		if err == nil {
			run, err = api.Wait(ctx, run.ID, func(contract.Run) {})
		}
		n := contract.NewWriteBack{WriteBackSpec: contract.WriteBackSpec{Steps: []contract.WriteBackStep{{Act: "file", Name: "kept/{name}", Decisions: []string{"keep"}}}}}
		var d contract.WriteBackDraft
		if err == nil {
			d, err = api.DraftWriteBack(ctx, run.ID, n)
		}
		n.Tag = d.Tag
		var b contract.WriteBack
		if err == nil {
			b, err = api.BeginWriteBack(ctx, run.ID, n)
		}
		for err == nil && b.EndedAt == nil {
			time.Sleep(100 * time.Millisecond)
			b, err = api.WriteBack(ctx, b.ID)
		}
		if err != nil || b.State != "done" {
			t.Fatalf("%v: %s", err, b.Says)
		}
		t.Log(d.Says, b.Says)
		var want bytes.Buffer
		if err := api.ExportFile(ctx, run.ID, contract.ExportChoice{Decision: "keep", Form: "rows", Format: "original"}, &want); err != nil {
			t.Fatal(err)
		}
		got, err := os.ReadFile(dir + "/kept/members-2026-11-keep.csv")
		if err != nil || !bytes.Equal(got, want.Bytes()) || len(got) == 0 {
			t.Errorf("%v: %d bytes, %d are wanted", err, len(got), want.Len())
		}
		if left, _ := filepath.Glob(dir + "/kept/*.part"); len(left) > 0 {
			t.Errorf("%v is left", left)
		}
	}
	t.Run("SFTP", func(t *testing.T) {
		dir := publicDir(t, "sftp")
		settings, fingerprint := openSSH(t, dir)
		c, err := api.MakeConnection(t.Context(), contract.NewConnection{Name: "not known", Kind: "files", Settings: settings})
		if err != nil || c.Works || !strings.Contains(c.Says, "The host shows the key "+fingerprint) {
			t.Errorf("%v: %s", err, c.Says)
		}
		settings["hostKey"] = "SHA256:" + strings.Repeat("A", 43)
		if c, err = api.MakeConnection(t.Context(), contract.NewConnection{Name: "another", Kind: "files", Settings: settings}); err != nil || c.Works || !strings.Contains(c.Says, "another key than the one entered") {
			t.Errorf("%v: %s", err, c.Says)
		}
		settings["hostKey"] = fingerprint
		hold(t, dir, settings)
	})
	t.Run("WebDAV", func(t *testing.T) {
		dir := publicDir(t, "webdav")
		settings := apache(t, dir)
		if err := os.Mkdir(dir+"/kept", 0o777); err != nil { // the folder is there, as a person made it
			t.Fatal(err)
		}
		hold(t, dir, settings)
	})
}
