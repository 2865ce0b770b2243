package answer

type Hour int

func HourOf(h int) Hour          { return Hour(h) }
func (h Hour) Equal(o Hour) bool { return (int(h)-int(o))%24 == 0 }
func Toll(n int) int             { return n * 2 }
func Greet(n string) string {
	for _, it := range greetings {
		if it.who == n {
			return it.words
		}
	}
	return "Ahoy, " + n + "!"
}
func Late(h int) bool { return h > 20 }
