#include <algorithm>
#include <iostream>
#include <vector>

int main() {
    int limit, count;
    std::cin >> limit >> count;
    std::vector<std::pair<long, int>> crates(count);
    for (auto &crate : crates) std::cin >> crate.second >> crate.first;
    std::sort(crates.rbegin(), crates.rend());
    long total = 0;
    for (auto &crate : crates) {
        if (crate.second <= limit) {
            limit -= crate.second;
            total += crate.first;
        }
    }
    std::cout << total << "\n";
}
