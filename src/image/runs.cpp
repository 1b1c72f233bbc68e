#include "runs.hpp"

#include <algorithm>
#include <bit>

#include "row_bits.hpp"

namespace heron {

RunSets::RunSets(int width, bool diagonal, bool set)
    : width_(width), touch_(diagonal ? 1 : 0), set_(set), words_(static_cast<size_t>(width / 64 + 1)) {}

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
  row_bits(row, width_, words_.data());
  if (!set_) {
    for (uint64_t& w : words_) w = ~w;
    words_.back() &= (uint64_t{1} << (width_ % 64)) - 1;  // a bit past the row's end is clear: every run ends
  }
  find_runs();
  label_runs();
  return here_;
}

void RunSets::find_runs() {
  here_.clear();
  uint64_t before = 0;  // the highest bit of the word before
  for (size_t w = 0; w < words_.size(); ++w) {
    const uint64_t bits = words_[w];
    uint64_t changes = bits ^ (bits << 1 | before);
    before = bits >> 63;
    for (; changes; changes &= changes - 1) {
      const int x = static_cast<int>(64 * w) + std::countr_zero(changes);
      if (bits >> (x % 64) & 1)
        here_.push_back({x, x, -1});
      else
        here_.back().last = x - 1;
    }
  }
}

void RunSets::label_runs() {
  size_t i = 0, j = 0;
  while (i < above_.size() && j < here_.size()) {
    const Run& a = above_[i];
    Run& b = here_[j];
    if (a.first <= b.last + touch_ && b.first <= a.last + touch_) {
      if (b.label < 0) {
        b.label = a.label;
      } else if (b.label != a.label) {
        const int p = root(a.label), q = root(b.label);
        parents_[static_cast<size_t>(std::max(p, q))] = std::min(p, q);
      }
    }
    const bool above_ends = a.last < b.last;
    i += above_ends, j += !above_ends;
  }
  for (Run& run : here_)
    if (run.label < 0) {
      run.label = static_cast<int>(parents_.size());
      parents_.push_back(run.label);
    }
}

}  // namespace heron
