package answer

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"
)

var counted int

func TestMain(m *testing.M) {
	counted = 1
	os.Exit(m.Run())
}

func TestToll(t *testing.T) {
	tests := []struct {
		name    string
		metres  int
		want    int
		wantErr bool
	}{
		{"none", 0, 0, false},
		{"short", 3, 6, false},
		{name: "long", metres: 300, want: 600},
		{"negative", -1, 0, true},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			got, err := Toll(tt.metres)
			if (err != nil) != tt.wantErr {
				t.Fatalf("Toll(%d) error = %v, want %v", tt.metres, err, tt.wantErr)
			}
			if got != tt.want {
				t.Errorf("Toll(%d) = %d, want %d", tt.metres, got, tt.want)
			}
		})
	}
}

func TestTollByMap(t *testing.T) {
	for name, tc := range map[string]struct{ in, out int }{
		"one": {1, 2},
		"two": {in: 2, out: 4},
	} {
		tc := tc
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if got, _ := Toll(tc.in); got != tc.out {
				t.Errorf("got %d, want %d", got, tc.out)
			}
		})
	}
}

func checkToll(t *testing.T, metres, want int) {
	t.Helper()
	got, err := Toll(metres)
	if err != nil {
		t.Fatal(err)
	}
	if got != want {
		t.Fatalf("got %d", got)
	}
}

func TestTollByHelper(t *testing.T) {
	checkToll(t, 4, 8)
	checkToll(t, 5, 10)
}

func TestErrors(t *testing.T) {
	_, err := Toll(-7)
	var length *LengthError
	if !errors.As(err, &length) || length.Length != -7 {
		t.Fatalf("got %v", err)
	}
	if err.Error() != "a ship of -7 metres" {
		t.Error(err)
	}
	if _, err := NewRegister().Length("Gull"); !errors.Is(err, ErrUnknown) {
		t.Errorf("got %v", err)
	} else if !strings.HasPrefix(err.Error(), "length of Gull") {
		t.Errorf("got %q", err)
	}
}

func TestRegister(t *testing.T) {
	register := NewRegister()
	t.Cleanup(func() {
		if len(register.Names()) != 2 {
			t.Error("lost some")
		}
	})
	register.Add("Tern", 9)
	register.Add("Gull", 30)
	want := []string{"Gull", "Tern"}
	if got := register.Names(); !reflect.DeepEqual(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
	length, err := register.Length("Tern")
	if err != nil || length != 9 {
		t.Fatalf("got %d, %v", length, err)
	}
	if !reflect.DeepEqual(register.ships, map[string]int{"Tern": 9, "Gull": 30}) {
		t.Fail()
	}
}

func TestGrades(t *testing.T) {
	if GradeOf(3) != 'B' || GradeOf(300) != 'A' {
		t.Error("grades")
	}
	if got := GradeOf(101); got != Grade('A') {
		t.Errorf("got %c", got)
	}
	if !Hour(25).Equal(Hour(1)) {
		t.Error("hours go round")
	}
}

func TestGeneric(t *testing.T) {
	got := Map([]int{1, 2}, func(it int) string { return fmt.Sprint(it * 2) })
	if !reflect.DeepEqual(got, []string{"2", "4"}) {
		t.Errorf("got %v", got)
	}
	if len(got) == 3 {
		t.Error("three")
	}
}

func TestPanics(t *testing.T) {
	defer func() {
		if got := recover(); got != "parts must be positive" {
			t.Errorf("got %v", got)
		}
	}()
	Share([]int{1}, 0)
	t.Error("it must panic")
}

func TestShare(t *testing.T) {
	got := Share([]int{1, 2, 3, 4, 5}, 2)
	switch {
	case len(got) != 2:
		t.Fatalf("got %v", got)
	case len(got[0]) != 3:
		t.Fatalf("got %v", got)
	}
	for i, part := range got {
		for _, it := range part {
			if it < 1 || it > 5 {
				t.Errorf("part %d has %d", i, it)
			}
		}
	}
}

func TestFiles(t *testing.T) {
	path := filepath.Join(t.TempDir(), "names.txt")
	if err := Save(path, []string{"Gull", "Tern"}); err != nil {
		t.Fatal(err)
	}
	got, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	golden, err := os.ReadFile("testdata/names.golden")
	if err != nil {
		t.Fatal(err)
	}
	if string(got) != string(golden) {
		t.Errorf("got %q, want %q", got, golden)
	}
	t.Setenv("QUAY", "west")
	if os.Getenv("QUAY") != "west" {
		t.Error("no quay")
	}
}

func TestConcurrent(t *testing.T) {
	register := NewRegister()
	done := make(chan int)
	for i := 0; i < 4; i++ {
		go func(i int) {
			register.Add(fmt.Sprintf("ship-%d", i), i)
			done <- i
		}(i)
	}
	sum := 0
	for i := 0; i < 4; i++ {
		select {
		case it := <-done:
			sum += it
		case <-time.After(5 * time.Second):
			t.Fatal("nobody came")
		}
	}
	if sum != 6 {
		t.Errorf("got %d", sum)
	}
}

func TestInternal(t *testing.T) {
	if hidden(1) != 2 {
		t.Error("hidden")
	}
	if counted != 1 {
		t.Error("TestMain did not run")
	}
	const text = `func TestNobody(t *testing.T) { if true { t.Fatal("no") } } /* `
	if strings.Count(text, "t.Fatal") != 1 {
		t.Error(text)
	}
}

func TestNested(t *testing.T) {
	t.Run("outer", func(t *testing.T) {
		t.Run("inner", func(t *testing.T) {
			if got := Greet("gull"); got != "Ahoy, GULL!" {
				t.Errorf("got %q", got)
			}
		})
		if testing.Short() {
			t.Skip("short")
		}
	})
}

func FuzzToll(f *testing.F) {
	f.Add(3)
	f.Add(0)
	f.Fuzz(func(t *testing.T, metres int) {
		got, err := Toll(metres)
		if err == nil && got != metres*2 {
			t.Errorf("got %d", got)
		}
	})
}

func BenchmarkToll(b *testing.B) {
	for i := 0; i < b.N; i++ {
		if got, _ := Toll(3); got != 6 {
			b.Fatal(got)
		}
	}
}
