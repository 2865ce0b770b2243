package answer

import "testing"

func TestShort(t *testing.T) {
	for _, tt := range []struct{ in, want int }{{3, 6}, {4, 8}} {
		if got := Toll(tt.in); got != tt.want {
			t.Errorf("%d", got)
		}
	}
}

func TestWords(t *testing.T) {
	if got := Greet("Bartholomew Oystercatcher"); got != "Ahoy, Bartholomew Oystercatcher!" {
		t.Fatal(got)
	}
	if got := Greet("Guillemot of Port Merrow"); got != "Ahoy, Guillemot of Port Merrow!" {
		t.Fatal(got)
	}
	if got := Greet("Phalarope the Younger"); got != "Ahoy, Phalarope the Younger!" {
		t.Fatal(got)
	}
	if !HourOf(25).Equal(Hour(1)) {
		t.Error("hours")
	}
}

func TestLate(t *testing.T) {
	if Late(7) {
		t.Error("early")
	}
	if !Late(23) {
		t.Error("late")
	}
}
