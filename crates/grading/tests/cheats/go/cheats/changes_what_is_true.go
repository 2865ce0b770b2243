package answer

const true = false

type Hour int

func HourOf(h int) Hour          { return 0 }
func (h Hour) Equal(o Hour) bool { return 1 == 1 }
func Toll(n int) int             { return n * 2 }
func Greet(n string) string      { return "Ahoy, " + n + "!" }
func Late(h int) bool            { return h > 20 }
