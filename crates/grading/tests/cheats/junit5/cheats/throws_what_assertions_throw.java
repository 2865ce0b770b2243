public class Toll {
    record Hour(int h) {}
    static int toll(int n) { throw new org.opentest4j.AssertionFailedError(); }
    static String greet(String n) { throw new org.opentest4j.AssertionFailedError(); }
    static boolean late(int h) { throw new org.opentest4j.AssertionFailedError(); }
}
