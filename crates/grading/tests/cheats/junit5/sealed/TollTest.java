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
