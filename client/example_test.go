package client_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"

	"nexocumula/client"
)

// answering returns a service that gives one answer, in place of a real one.
func answering(path, body string) *httptest.Server {
	return httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != path {
			w.WriteHeader(http.StatusNotFound)
			fmt.Fprint(w,
				`{"code":"unknown_series","detail":"no series matches \"stony-beck/raceway-9/oxygen\"; near it are stony-beck/raceway-4/oxygen"}`)
			return
		}
		fmt.Fprint(w, body)
	}))
}

func ExampleClient_Now() {
	service := answering("/api/v1/now",
		`{"at":"2026-03-01T08:00:10Z","values":[{"path":"stony-beck/raceway-4/oxygen","kind":"gauge","unit":"mg/l","time":"2026-03-01T08:00:05Z","value":7.82,"age_ms":5000,"fresh":true}]}`)
	defer service.Close()

	now, err := client.New(service.URL).Now(context.Background(), "stony-beck/#")
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, v := range now.Values {
		fmt.Println(v.Path, float64(v.Value), v.Unit, v.Fresh)
	}
	// Output: stony-beck/raceway-4/oxygen 7.82 mg/l true
}

func ExampleClient_Windows() {
	service := answering("/api/v1/windows", `{"from":"2026-03-01T02:00:00Z","to":"2026-03-01T04:00:00Z","zone":"UTC","width":"1h","stride":"1h","gaps":"leave","stats":["min"],
		"starts":["2026-03-01T02:00:00Z","2026-03-01T03:00:00Z"],"ends":["2026-03-01T03:00:00Z","2026-03-01T04:00:00Z"],
		"series":[{"name":"stony-beck/raceway-4/oxygen","kind":"gauge","unit":"mg/l","tier":"1m","values":{"min":[6.4,null]},"empty":[false,true],"open":[false,false],"filled":[false,false],"whole":{"values":{"min":6.4},"times":{}}}]}`)
	defer service.Close()

	answer, err := client.New(service.URL).Windows(context.Background(), client.WindowsQuery{
		Select: []string{"stony-beck/raceway-4/oxygen"},
		Last:   "2h",
		Width:  "1h",
		Stats:  []string{"min"},
	})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, s := range answer.Series {
		for i, start := range answer.Starts {
			if !s.Empty[i] {
				fmt.Println(start.Format("15:04"), s.Values["min"][i], s.Unit)
			}
		}
	}
	// Output: 02:00 6.4 mg/l
}

func ExampleError() {
	service := answering("/nowhere", "")
	defer service.Close()

	_, err := client.New(service.URL).Now(context.Background(), "stony-beck/raceway-9/oxygen")
	if refused, ok := errors.AsType[*client.Error](err); ok {
		fmt.Println(refused.Status, refused.Code)
	}
	// Output: 404 unknown_series
}
