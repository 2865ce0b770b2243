import org.junit.jupiter.api.*;
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
