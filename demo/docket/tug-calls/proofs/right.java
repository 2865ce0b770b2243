import java.util.ArrayList;
import java.util.Comparator;
import java.util.List;
import java.util.Scanner;

public class Main {
    public static void main(String[] args) {
        Scanner in = new Scanner(System.in);
        int count = in.nextInt();
        List<int[]> calls = new ArrayList<>();
        for (int i = 0; i < count; i++) {
            calls.add(new int[] {in.nextInt(), in.nextInt()});
        }
        calls.sort(Comparator.comparingInt((int[] c) -> c[1]).thenComparingInt(c -> c[0]));
        int served = 0;
        int free = Integer.MIN_VALUE;
        for (int[] call : calls) {
            if (call[0] >= free) {
                served++;
                free = call[1];
            }
        }
        System.out.println(served);
    }
}
