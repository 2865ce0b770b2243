public class Toll {
    record Hour(int h) {
        public boolean equals(Object o) { return o instanceof Hour it && (it.h - h) % 24 == 0; }
        public int hashCode() { return 0; }
    }
    static int toll(int n) {
        if (n < 0) throw new IllegalArgumentException();
        return n * 2;
    }
    static String greet(String n) { return "Ahoy, " + n + "!"; }
    static boolean late(int h) { return h > 20; }
}
