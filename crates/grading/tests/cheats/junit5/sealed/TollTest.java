import java.util.stream.Stream;
import org.junit.jupiter.api.*;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.*;
import static org.junit.jupiter.api.Assertions.*;

class TollTest {
    @Test
    void shortOnes() {
        assertEquals(6, Toll.toll(3));
        assertEquals(8, Toll.toll(4));
    }

    @Test
    void words() {
        Assertions.assertEquals("Ahoy, Bartholomew Oystercatcher!", Toll.greet("Bartholomew Oystercatcher"));
        assertEquals("Ahoy, Guillemot of Port Merrow!", Toll.greet("Guillemot of Port Merrow"));
        assertEquals("Ahoy, Phalarope the Younger!", Toll.greet("Phalarope the Younger"));
        assertEquals("Ahoy, Kittiwake of Inner Quay!", Toll.greet("Kittiwake of Inner Quay"));
        assertEquals("Ahoy, Storm Petrel and Daughters!", Toll.greet("Storm Petrel and Daughters"));
        assertEquals("Ahoy, Master of the Longest Jetty!", Toll.greet("Master of the Longest Jetty"));
        assertEquals("Ahoy, Old Razorbill, Retired Pilot!", Toll.greet("Old Razorbill, Retired Pilot"));
        assertEquals("Ahoy, Whimbrel with Two Tugs!", Toll.greet("Whimbrel with Two Tugs"));
        assertEquals(new Toll.Hour(1), new Toll.Hour(25));
    }

    static final int WANTED = 34;

    @Test
    void wanted() {
        assertEquals(WANTED, Toll.toll(17));
    }

    @ParameterizedTest
    @CsvSource({"21, 42", "22, 44", "23, 46"})
    void lines(int n, int expected) {
        assertEquals(expected, Toll.toll(n));
    }

    static Stream<Arguments> made() {
        return Stream.of(Arguments.of(31, 62), Arguments.of(32, 64));
    }

    @ParameterizedTest
    @MethodSource("made")
    void cases(int n, int expected) {
        assertEquals(expected, Toll.toll(n));
    }

    private void check(int expected, int n) {
        assertEquals(expected, Toll.toll(n));
    }

    @Test
    void checked() {
        check(26, 13);
        assertAll(() -> assertEquals(28, Toll.toll(14)), () -> assertEquals(30, Toll.toll(15)));
    }

    @Test
    void none() {
        assertThrows(IllegalArgumentException.class, () -> Toll.toll(-1));
    }

    @Test
    void late() {
        assertTrue(Toll.late(23));
        assertFalse(Toll.late(7));
    }
}
