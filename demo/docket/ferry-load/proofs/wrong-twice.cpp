#include <algorithm>
#include <iostream>
#include <vector>

int main() {
    int limit, count;
    std::cin >> limit >> count;
    std::vector<long> best(limit + 1, 0);
    for (int i = 0; i < count; i++) {
        int weight;
        long value;
        std::cin >> weight >> value;
        for (int w = weight; w <= limit; w++) {
            best[w] = std::max(best[w], best[w - weight] + value);
        }
    }
    std::cout << best[limit] << "\n";
}
