public class Toll {
    record Hour(int h) {}
    static int toll(int n) { return 0; }
    static String greet(String n) { return ""; }
    static boolean late(int h) { return true; }
}
@@@ org/junit/jupiter/api/Assertions.java
package org.junit.jupiter.api;
public class Assertions {
    public static void assertEquals(Object a, Object b) {}
    public static void assertEquals(int a, int b) {}
    public static void assertTrue(boolean a) {}
    public static void assertFalse(boolean a) {}
    public static void assertThrows(Class<?> a, Runnable b) {}
}
