package e2e

import (
	"context"
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/wire"
)

// withHandEdits launches an instance, and writes into its file by hand.
func withHandEdits(x *trial) error {
	if err := launched(x); err != nil {
		return err
	}
	text, err := os.ReadFile(x.keysFile())
	if err != nil {
		return err
	}
	x.state["text"] = "# by hand, before\n" + string(text) + "# by hand, behind\n"
	return os.WriteFile(x.keysFile(), []byte(x.state["text"]), 0o600)
}

func replacesSteward(x *trial) (int64, error) {
	w, err := x.client.RotateSteward(context.Background(), x.instance)
	return w.ID, err
}

// stewardCancelled shuts the door as soon as the next line is there, so that
// nobody can log in with it; cancels the work, and opens the door again.
func stewardCancelled(x *trial) (int64, error) {
	shut := make(chan error, 1)
	go func() {
		for range 20_000 {
			data, err := os.ReadFile(x.keysFile())
			if err != nil || strings.Count(string(data), "internal-sftp") > 1 {
				shut <- errors.Join(err, x.door("closed"))
				return
			}
			time.Sleep(500 * time.Microsecond)
		}
		shut <- errors.New("the next line never came")
	}()
	id, err := replacesSteward(x)
	if err == nil {
		err = <-shut
	}
	for n := 0; err == nil && n < 1000; n++ {
		var w wire.Work
		if w, err = x.client.WorkByID(context.Background(), id); err != nil || w.Over() || w.State == "waiting" {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if err == nil {
		if _, e := x.client.CancelWork(context.Background(), id); client.Definite(e) {
			err = e
		}
	}
	return id, errors.Join(err, x.door("open"))
}

// door has the instance's server answer, or not.
func (x *trial) door(is string) error {
	_, alive, err := x.inCloud()
	if err != nil || len(alive) == 0 {
		return errors.Join(err, errors.New("it is not in the cloud"))
	}
	return standinCall("POST", "/v1/instances/"+alive[0].ID+"/door", `{"is":"`+is+`"}`, nil)
}

var stewardLine = regexp.MustCompile(`(?m)^.*internal-sftp.*$`)

// stewardReplaced: the steward's line names another key, or the same one; all
// others stand as they did, and the service gets in.
func stewardReplaced(another bool) func(*trial, wire.Work) []string {
	return func(x *trial, w wire.Work) []string {
		broken := x.noneLeft()
		data, err := os.ReadFile(x.keysFile())
		before, after := stewardLine.FindString(x.state["text"]), stewardLine.FindAllString(string(data), -1)
		if err != nil || len(after) != 1 || (after[0] != before) != another {
			broken = append(broken, fmt.Sprintf("%v\n%s\n--- and was\n%s", err, data, x.state["text"]))
		}
		if rest := stewardLine.ReplaceAllString(string(data), ""); strings.Join(strings.Fields(rest),
			" ") != strings.Join(strings.Fields(stewardLine.ReplaceAllString(x.state["text"], "")), " ") {
			broken = append(broken, "other lines were changed:\n"+string(data))
		}
		s, err := x.client.Survey(context.Background(), x.instance, wire.SurveyRequest{Inside: true})
		if err != nil || s.InsideTrouble != "" {
			broken = append(broken, fmt.Sprintf("the steward does not get in: %v %s", err, s.InsideTrouble))
		}
		for _, k := range s.Keys {
			if k.Result != "recorded" {
				broken = append(broken, fmt.Sprintf("%+v", k))
			}
		}
		return append(broken, x.opens()...)
	}
}
