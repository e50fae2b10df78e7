package browser

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"testing"
	"time"
)

// TestLeash: a program on a leash ends with the one that holds it, however that ends.
func TestLeash(t *testing.T) {
	switch os.Getenv("LEASH") {
	case "held": // runs for as long as nobody ends it, and holds its end of a pipe
		time.Sleep(time.Hour)
	case "holds":
		held := exec.Command(os.Args[0], "-test.run", "^TestLeash$")
		held.Env = append(os.Environ(), "LEASH=held")
		held.Stdout = os.Stdout
		if err := held.Start(); err != nil {
			t.Fatal(err)
		}
		leash(held.Process)
		fmt.Println("started")
		held.Wait()
	}
	holder := exec.Command(os.Args[0], "-test.run", "^TestLeash$")
	holder.Env = append(os.Environ(), "LEASH=holds")
	out, err := holder.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := holder.Start(); err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(out)
	if !lines.Scan() || lines.Text() != "started" {
		t.Fatalf("%q %v", lines.Text(), lines.Err())
	}
	holder.Process.Kill()
	ended := make(chan bool)
	go func() {
		for lines.Scan() { // ends with the last of both programs
		}
		close(ended)
	}()
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Error("the program on the leash goes on")
	}
	holder.Wait()
}
