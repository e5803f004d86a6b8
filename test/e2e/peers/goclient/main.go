// The README's story through a client that is generated from the description of the service.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"

	"pump.example/reader/nexo"
)

func main() {
	if err := story(context.Background(), os.Args[1]); err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
}

func story(ctx context.Context, base string) error {
	api, err := nexo.NewClientWithResponses(base)
	if err != nil {
		return err
	}
	now, err := api.GetLatestValuesWithResponse(ctx, &nexo.GetLatestValuesParams{Select: to("stony-beck/#")})
	if err != nil {
		return err
	}
	first := now.JSON200.Values[0]
	fmt.Println("now", first.Path, *first.Value)

	windows, err := api.QueryWindowsWithResponse(ctx, &nexo.QueryWindowsParams{
		Select: &[]string{"stony-beck/+/oxygen"}, Last: to("1h"), Width: to("1h"), Stats: to("count,sd"),
	})
	if err != nil {
		return err
	}
	of := windows.JSON200.Series[0].Values
	at := slices.IndexFunc(of["count"], func(n *float64) bool { return n != nil && *n == 1 })
	if at < 0 {
		return errors.New("no window has the reading")
	}
	fmt.Println("count", *of["count"][at], "of one there is no sd:", of["sd"][at] == nil)

	note, err := api.AddNoteWithResponse(ctx, nexo.NewNote{About: "stony-beck/raceway-1", Text: "probe cleaned"})
	if err != nil {
		return err
	}
	fmt.Println("note", note.StatusCode(), note.HTTPResponse.Header.Get("Location"), note.JSON201.Text)

	refused, err := api.QueryWindowsWithResponse(ctx, &nexo.QueryWindowsParams{Select: &[]string{"nowhere/x/y"}})
	if err != nil {
		return err
	}
	fmt.Println("refused", refused.ApplicationproblemJSON404.Code, refused.StatusCode())
	return nil
}

func to[T any](v T) *T { return &v }
