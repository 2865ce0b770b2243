package answer_test

import (
	"fmt"
	"testing"

	"answer"
)

func ExampleGreet() {
	fmt.Println(answer.Greet("tern"))
	// Output: Ahoy, TERN!
}

type suite struct {
	*testing.T
	register *answer.Register
}

func setUp(t *testing.T) suite {
	register := answer.NewRegister()
	register.Add("Skua", 40)
	return suite{t, register}
}

func (s suite) expect(name string, want int) {
	s.Helper()
	if got, err := s.register.Length(name); err != nil || got != want {
		s.Fatalf("got %d, %v", got, err)
	}
}

func TestFromOutside(t *testing.T) {
	s := setUp(t)
	s.expect("Skua", 40)
	if names := s.register.Names(); len(names) != 1 || names[0] != "Skua" {
		t.Errorf("got %v", names)
	}
}

func TestFunctions(t *testing.T) {
	for _, test := range []func(t *testing.T){
		func(t *testing.T) {
			if got, _ := answer.Toll(1); got != 2 {
				t.Error(got)
			}
		},
		func(t *testing.T) {
			if _, err := answer.Toll(-1); err == nil {
				t.Error("no error")
			}
		},
	} {
		test(t)
	}
}
