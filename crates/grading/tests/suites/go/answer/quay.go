// Package answer is about what ships pay.
package answer

import (
	"errors"
	"fmt"
	"os"
	"sort"
	"strings"
	"sync"
)

// ErrUnknown is told of ships that nobody knows.
var ErrUnknown = errors.New("unknown ship")

// LengthError is told of lengths that no ship has.
type LengthError struct{ Length int }

func (e *LengthError) Error() string { return fmt.Sprintf("a ship of %d metres", e.Length) }

// Toll is what a ship pays.
func Toll(metres int) (int, error) {
	if metres < 0 {
		return 0, &LengthError{metres}
	}
	return metres * 2, nil
}

// Grade is a letter.
type Grade byte

// GradeOf gives the grade of a ship.
func GradeOf(metres int) Grade {
	if metres > 100 {
		return 'A'
	}
	return 'B'
}

// Hour is one of the clock.
type Hour int

// Equal is whether a clock shows both alike.
func (h Hour) Equal(o Hour) bool { return (int(h)-int(o))%24 == 0 }

// Register knows ships.
type Register struct {
	mutex sync.Mutex
	ships map[string]int
}

// NewRegister makes one.
func NewRegister() *Register { return &Register{ships: map[string]int{}} }

// Add adds a ship.
func (r *Register) Add(name string, length int) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.ships[name] = length
}

// Length finds one.
func (r *Register) Length(name string) (int, error) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	length, ok := r.ships[name]
	if !ok {
		return 0, fmt.Errorf("length of %s: %w", name, ErrUnknown)
	}
	return length, nil
}

// Names gives all in order.
func (r *Register) Names() []string {
	names := []string{}
	for name := range r.ships {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}

// Map applies a function.
func Map[T, U any](all []T, each func(T) U) []U {
	out := make([]U, 0, len(all))
	for _, it := range all {
		out = append(out, each(it))
	}
	return out
}

// Share splits.
func Share(all []int, parts int) [][]int {
	if parts <= 0 {
		panic("parts must be positive")
	}
	size := (len(all) + parts - 1) / parts
	out := [][]int{}
	for size > 0 && len(all) > size {
		out = append(out, all[:size])
		all = all[size:]
	}
	return append(out, all)
}

// Greet greets.
func Greet(name string) string { return "Ahoy, " + strings.ToUpper(name) + "!" }

// Save writes names.
func Save(path string, names []string) error {
	return os.WriteFile(path, []byte(strings.Join(names, "\n")+"\n"), 0o600)
}

func hidden(x int) int { return x + 1 }
