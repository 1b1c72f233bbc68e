#pragma once
#include <span>

#include "scan.hpp"

namespace heron {

/// A blurred step that is to be fitted to a profile.
struct StepSearch {
  const std::vector<double>* profile = nullptr;
  bool round = false;  ///< the profile's end is its start
  double start = 0;    ///< steps; where it is looked for
  double reach = 0;    ///< steps on either side that count, at most 6
  double noise = 0;    ///< of a profile's value, grey levels
  double least = 0;    ///< contrast that is of use: what is far below it may be given up; grey levels
  const std::vector<float>* skew = nullptr;  ///< docs of `Strip`, a value a step; may be missing
};

/// How far a step may move from where it is looked for, steps.
constexpr double step_may_move = 3;

/// How many steps a search looks at, from `first_step` on.
constexpr int search_steps = 19;
inline int first_step(double start) { return static_cast<int>(std::lround(start)) - search_steps / 2; }

/// For each search the blurred step that explains the profile best: place, blur, and the levels of both sides
/// (Gauss-Newton, with the levels eliminated: Golub, Pereyra, The differentiation of pseudo-inverses and
/// nonlinear least squares problems whose variables separate, SIAM J. Numer. Anal. 10, 1973). Nothing where
/// there is none within three steps. The searches are fitted side by side in vectors of floats, until a
/// fit moves by less than 1e-4 steps or 0.02 of its sigma.
std::vector<std::optional<ScanEdge>> fit_steps(std::span<const StepSearch> searches);

/// The same for one search, in double; the twin for tests.
std::optional<ScanEdge> fit_step_plain(const StepSearch& search);

}  // namespace heron
