#pragma once
#include <cstddef>
#include <cstdint>
#include <vector>

#include "row_changes.hpp"

namespace heron {

/// Pixels of a row, from first to last, that hang together; `label` names the set they belong to so far.
struct Run {
  int first, last, label;
};

/// Which runs of a mask hang together, a row after the other. The root of a set is its smallest label, and
/// labels are given in reading order. Both rows of a pair are walked at once; what a run touches first gives
/// it its label, so most runs join nothing.
class RunSets {
 public:
  /// `diagonal`: pixels touch across corners too. `set`: runs of set pixels, or else of clear ones.
  RunSets(int width, bool diagonal, bool set = true);
  /// The runs of the next row; valid until the next call.
  const std::vector<Run>& next_row(const uint8_t* row);
  int root(int label);
  size_t labels() const { return parents_.size(); }

 private:
  void label_runs();
  void join(int a, int b);

  int touch_;
  bool set_;
  RowChanges changes_;
  std::vector<Run> above_, here_;
  std::vector<int> parents_;
};

}  // namespace heron
