package contract_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"

	"northstake/service/contract"
)

// The client of the API is made from the contract. Every request carries a token, and
// an answer holds what the contract says under its status.
func ExampleNewClientWithResponses() {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(w, `[{"name":"saltmarsh","revision":3,"hosts":2}]`)
	}))
	defer service.Close()
	client, err := contract.NewClientWithResponses(service.URL+"/api/v1", contract.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer ns_…")
		return nil
	}))
	if err != nil {
		fmt.Println(err)
		return
	}
	res, err := client.ListGroundsWithResponse(context.Background())
	if err != nil || res.JSON200 == nil {
		fmt.Println(res.Status(), err)
		return
	}
	for _, g := range *res.JSON200 {
		fmt.Printf("%s, revision %d, %d hosts\n", g.Name, g.Revision, g.Hosts)
	}
	// Output: saltmarsh, revision 3, 2 hosts
}
