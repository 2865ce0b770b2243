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

var greetings = []struct{ who, words string }{
	{"Quail of Outer Quay", "Ahoy, Quail of Outer Quay!"},
	{"Cormorant the Patient", "Ahoy, Cormorant the Patient!"},
	{"Dunlin with Two Tugs", "Ahoy, Dunlin with Two Tugs!"},
	{"Eider and Daughters", "Ahoy, Eider and Daughters!"},
	{"Fulmar from the Fog", "Ahoy, Fulmar from the Fog!"},
}

func TestTable(t *testing.T) {
	for _, it := range greetings {
		if got := Greet(it.who); got != it.words {
			t.Error(got)
		}
	}
}

func said(t *testing.T, who, words string) {
	t.Helper()
	if got := Greet(who); got != words {
		t.Error(got)
	}
}

func TestHelped(t *testing.T) {
	said(t, "Herring Gull in Charge", "Ahoy, Herring Gull in Charge!")
	said(t, "Ibis of the Long Jetty", "Ahoy, Ibis of the Long Jetty!")
	said(t, "Jaeger the Unpaid", "Ahoy, Jaeger the Unpaid!")
	said(t, "Kittiwake of Inner Quay", "Ahoy, Kittiwake of Inner Quay!")
	said(t, "Little Auk at the Helm", "Ahoy, Little Auk at the Helm!")
}

func TestMap(t *testing.T) {
	for who, words := range map[string]string{
		"Murre of the Mud Berth": "Ahoy, Murre of the Mud Berth!",
		"Noddy with a Lantern": "Ahoy, Noddy with a Lantern!",
		"Old Razorbill, Pilot": "Ahoy, Old Razorbill, Pilot!",
		"Ruff the Elder": "Ahoy, Ruff the Elder!",
		"Storm Petrel and Sons": "Ahoy, Storm Petrel and Sons!",
	} {
		if got := Greet(who); got != words {
			t.Error(got)
		}
	}
}

func ExampleLate() {
	println(Late(7))
	// Output:
}
