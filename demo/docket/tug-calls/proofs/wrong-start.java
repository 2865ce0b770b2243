import java.io.IOException;
import java.io.InputStreamReader;
import java.io.StreamTokenizer;

public class Main {
    public static void main(String[] args) throws IOException {
        StreamTokenizer in = new StreamTokenizer(new InputStreamReader(System.in));
        in.nextToken();
        int count = (int) in.nval;
        int[][] calls = new int[count][2];
        for (int i = 0; i < count; i++) {
            in.nextToken();
            calls[i][0] = (int) in.nval;
            in.nextToken();
            calls[i][1] = (int) in.nval;
        }
        int served = 0;
        int free = Integer.MIN_VALUE;
        while (true) {
            int[] next = null;
            for (int[] call : calls) {
                if (call[0] >= free && (next == null || call[0] < next[0])) {
                    next = call;
                }
            }
            if (next == null) {
                break;
            }
            served++;
            free = next[1];
        }
        System.out.println(served);
    }
}
