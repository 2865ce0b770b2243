public class Toll {
    record Hour(int h) {}
    static int toll(int n) { if (n < 0) throw new java.lang.IllegalArgumentException(); return n * 2; }
    static String greet(String n) { return ""; }
    static boolean late(int h) { return h > 20; }
}
class Assertions {
    static void assertEquals(Object a, Object b) {}
    static void assertTrue(boolean a) {}
}
