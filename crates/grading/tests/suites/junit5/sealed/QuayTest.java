import static org.junit.jupiter.api.Assertions.*;
import static org.junit.jupiter.api.Assumptions.assumeTrue;

import java.io.*;
import java.nio.file.*;
import java.time.Duration;
import java.util.*;
import java.util.stream.*;
import org.junit.jupiter.api.*;
import org.junit.jupiter.api.io.TempDir;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.CsvSource;
import org.junit.jupiter.params.provider.MethodSource;
import org.junit.jupiter.params.provider.ValueSource;
import org.junit.jupiter.params.provider.Arguments;

class QuayTest {
    private static int opened;
    private Quay quay;

    @BeforeAll
    static void open() {
        opened++;
    }

    @BeforeEach
    void setUp() {
        quay = new Quay();
        quay.add("Tern", 9);
        assertEquals(9, quay.length("Tern"));
    }

    @AfterEach
    void tearDown() {
        assertTrue(quay.names().contains("Tern"));
    }

    @Test
    void tolls() {
        assertEquals(6, Quay.toll(3));
        assertEquals(0, Quay.toll(0), "nothing for nothing");
        assertNotEquals(7, Quay.toll(3));
        assertTrue(Quay.toll(5) > 9, () -> "too little");
        assertEquals(1, opened);
    }

    @Test
    @DisplayName("errors have words")
    void errors() {
        IllegalArgumentException error = assertThrows(IllegalArgumentException.class, () -> Quay.toll(-1));
        assertEquals("a ship of -1 metres", error.getMessage());
        assertThrows(Quay.UnknownShip.class, () -> quay.length("Gull"));
        assertThrows(RuntimeException.class, () -> {
            assertEquals(9, quay.length("Tern"));
            quay.length("Gull");
        });
        assertDoesNotThrow(() -> Quay.toll(1));
    }

    @ParameterizedTest
    @ValueSource(ints = {1, 2, 30})
    void tollsAreEven(int metres) {
        assertEquals(0, Quay.toll(metres) % 2);
    }

    @ParameterizedTest
    @CsvSource({"1, 2", "10, 20", "100, 200"})
    void tollsOfTable(int metres, int toll) {
        assertEquals(toll, Quay.toll(metres));
    }

    static Stream<Arguments> greetings() {
        return Stream.of(Arguments.of("Gull", "Ahoy, Gull!"), Arguments.of("", "Ahoy, !"));
    }

    @ParameterizedTest(name = "{0} is greeted")
    @MethodSource("greetings")
    void greets(String name, String expected) {
        assertEquals(expected, Quay.greet(name));
    }

    @RepeatedTest(2)
    void again() {
        quay.add("Gull", 30);
        assertEquals(List.of("Gull", "Tern"), quay.names());
    }

    @TestFactory
    Stream<DynamicTest> dynamic() {
        return IntStream.of(1, 2).mapToObj(it -> DynamicTest.dynamicTest("toll " + it, () -> assertEquals(2 * it, Quay.toll(it))));
    }

    @Test
    void values() {
        assertEquals(new Quay.Berth(3, "west"), new Quay.Berth(3, "west"));
        assertNotEquals(new Quay.Berth(3, "west"), new Quay.Berth(4, "west"));
        assertEquals(new Quay.Hour(1), new Quay.Hour(25));
        assertEquals(new Quay.Hour(160), new Quay.Hour(16));
        assertTrue(new Quay.Hour(30).equals(new Quay.Hour(6)));
        assertArrayEquals(new int[] {2, 3}, Quay.halves(5));
        assertEquals(2.5, Quay.mean(2, 3), 1e-9);
        assertEquals(2.0, Quay.mean(1, 2, 3));
        assertIterableEquals(List.of("Tern"), quay.names());
        assertNull(new HashMap<String, String>().get("x"));
        assertNotNull(quay);
        assertSame(quay, quay);
        char first = Quay.greet("x").charAt(0);
        assertEquals('A', first);
        long many = 3_000_000_000L;
        assertEquals(3_000_000_000L, many);
    }

    @Test
    void together() {
        assertAll("tolls",
            () -> assertEquals(2, Quay.toll(1)),
            () -> assertAll(() -> assertEquals(4, Quay.toll(2)), () -> assertFalse(quay.names().isEmpty())));
        assertTimeout(Duration.ofSeconds(5), () -> Quay.slow());
        int metres = assertTimeoutPreemptively(Duration.ofSeconds(5), () -> Quay.toll(4));
        assertEquals(8, metres);
    }

    @Test
    void output() {
        PrintStream before = System.out;
        ByteArrayOutputStream caught = new ByteArrayOutputStream();
        System.setOut(new PrintStream(caught));
        try {
            System.out.print(Quay.greet("Tern"));
        } finally {
            System.setOut(before);
        }
        assertEquals("Ahoy, Tern!", caught.toString());
        String text = """
            @Test
            void nobody() { assertTrue(false); } /*
            """;
        assertEquals(2, text.lines().count());
    }

    @Test
    void files(@TempDir Path folder) throws IOException {
        Path file = folder.resolve("names.txt");
        Quay.save(file, quay.names());
        assertEquals(List.of("Tern"), Files.readAllLines(file));
        try {
            assertTrue(Files.size(file) > 0);
        } catch (IOException error) {
            fail(error);
        }
    }

    @Test
    void loops() {
        int[][] table = {{1, 2}, {3, 6}};
        for (int[] row : table) {
            assertEquals(row[1], Quay.toll(row[0]));
        }
        for (int metres = 0; metres < 5; metres++)
            assertEquals(2 * metres, Quay.toll(metres));
        if (opened > 5) return;
        assertEquals(2, Quay.toll(1));
    }

    @Test
    void assumed() {
        assumeTrue(opened == 1);
        assertEquals(4, Quay.toll(2));
    }

    @Nested
    class WhenFull {
        @BeforeEach
        void fill() {
            for (int it = 0; it < 5; it++) quay.add("ship " + it, it);
        }

        @Test
        void hasAll() {
            assertEquals(6, quay.names().size());
        }

        @Nested
        class AndOneIsLonger {
            @Test
            void isKnown() {
                quay.add("long", 200);
                assertEquals(200, quay.length("long"));
            }
        }
    }
}
