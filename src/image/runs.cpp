#include "runs.hpp"

#include <algorithm>

namespace heron {

RunSets::RunSets(int width, bool diagonal, bool set) : touch_(diagonal ? 1 : 0), set_(set), changes_(width) {}

int RunSets::root(int i) {
  while (parents_[static_cast<size_t>(i)] != i) {
    int& up = parents_[static_cast<size_t>(i)];
    up = parents_[static_cast<size_t>(up)];
    i = up;
  }
  return i;
}

const std::vector<Run>& RunSets::next_row(const uint8_t* row) {
  std::swap(above_, here_);
  const auto count = static_cast<size_t>(row_changes(row, set_, changes_) / 2);
  const std::vector<int>& at = changes_.places;
  here_.resize(count);
  for (size_t i = 0; i < count; ++i) here_[i] = {at[2 * i], at[2 * i + 1] - 1, 0};
  label_runs();
  return here_;
}

void RunSets::label_runs() {
  constexpr int far = 1 << 30;
  above_.push_back({far, far, 0});  // ends every search
  const Run* a = above_.data();
  auto labels = static_cast<int>(parents_.size());
  for (Run& b : here_) {
    const int first = b.first - touch_, last = b.last + touch_;
    int label = -1;
    while (a->last < first) ++a;
    const Run* met = a;
    for (; a->first <= last; ++a) {
      met = a;
      if (label < 0)
        label = a->label;
      else if (label != a->label)
        join(label, a->label);
    }
    a = met->last > b.last ? met : a;  // the last one may reach over more of this row's
    if (label < 0) {
      label = labels++;
      parents_.push_back(label);
    }
    b.label = label;
  }
}

void RunSets::join(int a, int b) {
  const int p = root(a), q = root(b);
  parents_[static_cast<size_t>(std::max(p, q))] = std::min(p, q);
}

}  // namespace heron
