package contract

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// The code that is kept is what the contract makes now: make generate writes it.
func TestTheCodeIsThatOfTheContract(t *testing.T) {
	dir := t.TempDir()
	out, how := filepath.Join(dir, "contract.go"), filepath.Join(dir, "oapi.yaml")
	config, err := os.ReadFile("oapi.yaml")
	if err == nil {
		err = os.WriteFile(how, bytes.Replace(config, []byte("output: contract.gen.go"), []byte("output: "+out), 1), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	if said, err := exec.Command("go", "tool", "oapi-codegen", "-config", how, "openapi.yaml").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, said)
	}
	made, err := os.ReadFile(out)
	if err != nil {
		t.Fatal(err)
	}
	kept, err := os.ReadFile("contract.gen.go")
	if err != nil || !bytes.Equal(made, kept) {
		t.Errorf("contract.gen.go is not what openapi.yaml makes, %v: run make generate", err)
	}
}
