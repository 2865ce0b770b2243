class LongTest extends BaseTest implements Greeter {
    int metres() { return 100; }

    int toll() { return 200; }

    public String who() { return "Skua"; }
}

interface Greeter {
    String who();

    @org.junit.jupiter.api.Test
    default void greetsHer() {
        String expected = "Ahoy, Skua!";
        org.junit.jupiter.api.Assertions.assertEquals(expected, Quay.greet(who()));
    }
}
