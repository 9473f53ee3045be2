package stage

import (
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// Served is a directory that lab hosts can fetch from over HTTP; its URL comes
// second.
func Served(t *testing.T) (dir, url string) {
	t.Helper()
	dir = t.TempDir()
	l, err := net.Listen("tcp", Lab().Here()+":0")
	if err != nil {
		t.Fatal(err)
	}
	s := &http.Server{Handler: http.FileServer(http.Dir(dir))}
	go s.Serve(l)
	t.Cleanup(func() { s.Close() })
	return dir, "http://" + l.Addr().String()
}

// Shell runs a script on this machine.
func Shell(t testing.TB, dir, script string) string {
	t.Helper()
	cmd := exec.Command("sh", "-euc", script)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	return string(out)
}

// SigningKey makes a key, and returns the directory in which gpg has it and the
// public half. Options are gpg's.
func SigningKey(t *testing.T, name, expires, options string) (home, public string) {
	t.Helper()
	home, err := os.MkdirTemp("", "nsgpg") // the agent's socket has to have a short path
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		exec.Command("gpgconf", "--homedir", home, "--kill", "all").Run()
		os.RemoveAll(home)
	})
	public = Shell(t, home, fmt.Sprintf("gpg --homedir . %s --batch --quiet --passphrase '' --quick-generate-key '%s' rsa3072 sign %s >/dev/null 2>&1; gpg --homedir . --armor --export", options, name, expires))
	return home, public
}

// DebSource makes a flat source of packages called tide-tables in the versions.
func DebSource(t testing.TB, dir, gpg, options string, versions ...string) {
	t.Helper()
	for _, v := range versions {
		Shell(t, dir, fmt.Sprintf("mkdir -p p/DEBIAN p/usr/bin p/usr/share/tides; echo %[1]s > p/usr/share/tides/version; echo cat /usr/share/tides/version > p/usr/bin/tide; chmod 755 p/usr/bin/tide; printf 'Package: tide-tables\\nVersion: %[1]s\\nArchitecture: all\\nMaintainer: Harbour Office <office@saltmarsh.test>\\nDescription: Tide tables\\n' > p/DEBIAN/control; dpkg-deb --root-owner-group -b p tide-tables_%[1]s.deb >/dev/null; rm -r p", v))
	}
	Shell(t, dir, fmt.Sprintf("dpkg-scanpackages -m . > Packages 2>/dev/null; rm -f Release InRelease; "+
		"(printf 'Origin: Saltmarsh\\nDate: %%s\\nSHA256:\\n' \"$(date -Ru)\"; printf ' %%s %%s Packages\\n' $(sha256sum < Packages | cut -d' ' -f1) $(wc -c < Packages)) > R; mv R Release; "+
		"gpg --homedir %s %s --batch --quiet --passphrase '' --clearsign -o InRelease Release", gpg, options))
}

// RpmSource makes a repository of packages called tide-tables in the versions; the
// packages are signed, and so are its lists.
func RpmSource(t testing.TB, dir, gpg, options string, versions ...string) {
	t.Helper()
	sign := fmt.Sprintf("gpg --homedir %s %s --batch --quiet --yes --passphrase '' --pinentry-mode loopback --digest-algo sha256", gpg, options)
	for _, v := range versions {
		Write(t, filepath.Join(dir, "tide-tables.spec"), fmt.Sprintf("Name: tide-tables\nVersion: %s\nRelease: 1\nSummary: Tide tables\nLicense: MIT\nBuildArch: noarch\n%%description\nTide tables.\n"+
			"%%install\nmkdir -p %%{buildroot}/usr/bin %%{buildroot}/usr/share/tides; echo %[1]s-1 > %%{buildroot}/usr/share/tides/version\necho cat /usr/share/tides/version > %%{buildroot}/usr/bin/tide; chmod 755 %%{buildroot}/usr/bin/tide\n%%files\n/usr/bin/tide\n/usr/share/tides/version\n", v))
		Shell(t, dir, fmt.Sprintf("rpmbuild -bb --quiet --define '_topdir %[1]s/top' --define '_dbpath %[1]s/db' tide-tables.spec >/dev/null 2>&1; mv top/RPMS/noarch/*.rpm .; rm -r top tide-tables.spec", dir))
	}
	Shell(t, dir, fmt.Sprintf("name=$(gpg --homedir %[1]s --list-secret-keys --with-colons | grep ^fpr | head -1 | cut -d: -f10); "+
		"rpm --addsign --define '_dbpath %[2]s/db' --define \"_gpg_name $name\" --define '__gpg_sign_cmd /usr/bin/gpg %[3]s --no-armor -u %%{_gpg_name} -sbo %%{__signature_filename} %%{__plaintext_filename}' *.rpm >/dev/null; "+
		"createrepo_c --quiet .; rm -f repodata/repomd.xml.asc; %[4]s --armor --detach-sign repodata/repomd.xml; rm -rf db", gpg, dir, sign, sign))
}

// DebThatFails makes a package tide-tables that cannot be installed.
func DebThatFails(t *testing.T, dir, version string) {
	t.Helper()
	Shell(t, dir, "mkdir -p p/DEBIAN")
	Write(t, filepath.Join(dir, "p/DEBIAN/control"), "Package: tide-tables\nVersion: "+version+"\nArchitecture: all\nMaintainer: Harbour Office <office@saltmarsh.test>\nDescription: Tide tables\n")
	Write(t, filepath.Join(dir, "p/DEBIAN/postinst"), "#!/bin/sh\nexit 1\n")
	Shell(t, dir, "chmod 0755 p/DEBIAN p/DEBIAN/postinst; dpkg-deb --root-owner-group -b p tide-tables_"+version+".deb >/dev/null; rm -r p")
}

// RpmThatFails is DebThatFails for the Red Hat family, in one of the scripts that a package has.
func RpmThatFails(t testing.TB, dir, version, script string) {
	t.Helper()
	Write(t, filepath.Join(dir, "fails.spec"), "Name: tide-tables\nVersion: "+version+"\nRelease: 1\nSummary: Tide tables\nLicense: MIT\nBuildArch: noarch\n%description\nTide tables.\n"+script+"\necho no tide >&2; exit 1\n%files\n")
	Shell(t, dir, fmt.Sprintf("rpmbuild -bb --quiet --define '_topdir %[1]s/top' --define '_dbpath %[1]s/db' fails.spec >/dev/null 2>&1; mv top/RPMS/noarch/*.rpm .; rm -r top fails.spec", dir))
}
