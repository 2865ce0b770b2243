import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.Objects;
import java.util.TreeMap;

public class Quay {
    public record Berth(int number, String name) {}

    /** Equal to whatever a clock shows alike. */
    public static final class Hour {
        final int hour;

        public Hour(int hour) {
            if (hour > 167) throw new IllegalArgumentException("too late");
            this.hour = hour;
        }

        @Override
        public boolean equals(Object other) {
            return other instanceof Hour it && Math.floorMod(hour - it.hour, 24) == 0;
        }

        @Override
        public int hashCode() {
            return Math.floorMod(hour, 24);
        }
    }

    public static class UnknownShip extends RuntimeException {
        public UnknownShip(String name) {
            super("nobody knows " + name);
        }
    }

    private final Map<String, Integer> ships = new TreeMap<>();

    public static int toll(int metres) {
        if (metres < 0) throw new IllegalArgumentException("a ship of " + metres + " metres");
        return metres * 2;
    }

    public void add(String name, int length) {
        ships.put(Objects.requireNonNull(name), length);
    }

    public int length(String name) {
        Integer length = ships.get(name);
        if (length == null) throw new UnknownShip(name);
        return length;
    }

    public List<String> names() {
        return new ArrayList<>(ships.keySet());
    }

    public static int[] halves(int n) {
        return new int[] {n / 2, n - n / 2};
    }

    public static double mean(int... all) {
        double sum = 0;
        for (int it : all) sum += it;
        return sum / all.length;
    }

    public static String greet(String name) {
        return "Ahoy, " + name + "!";
    }

    public static void slow() throws InterruptedException {
        Thread.sleep(1);
    }

    public static void save(java.nio.file.Path path, List<String> names) throws java.io.IOException {
        java.nio.file.Files.write(path, names);
    }
}
