import org.junit.jupiter.api.Assertions;
import org.junit.jupiter.api.Test;

abstract class BaseTest {
    abstract int metres();

    abstract int toll();

    @Test
    void paysItsToll() {
        Assertions.assertEquals(toll(), Quay.toll(metres()));
    }
}

class ShortTest extends BaseTest {
    int metres() { return 1; }

    int toll() { return 2; }
}
