#include "locate/pattern/grey/grey_sums.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/pattern/grey/grey_sums.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "locate/common/add_to_cells-inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using Floats = hn::ScalableTag<float>;
using V = hn::Vec<Floats>;

/// Numbers that stay the same over all samples, each to be multiplied with vectors.
template <size_t count>
struct Constants {
  HWY_ALIGN float values[count];
  explicit Constants(const double* from) {
    for (size_t k = 0; k < count; ++k) values[k] = static_cast<float>(from[k]);
  }
  HWY_INLINE V operator[](size_t k) const { return hn::Set(Floats(), values[k]); }
};

/// The columns of a vector of samples.
struct Columns {
  V gain, along_x, along_y, less, bend, offset, per_size;
  const GreySamples& samples;

  explicit Columns(const GreyProblem& p) : samples(p.samples) {
    const Floats f;
    gain = hn::Set(f, static_cast<float>(p.gain_in_the_middle()));
    less = hn::Set(f, static_cast<float>(-p.slope_to_the_middle()));
    bend = hn::Set(f, static_cast<float>(p.bend()));
    along_x = hn::Set(f, static_cast<float>(p.light.along_x));
    along_y = hn::Set(f, static_cast<float>(p.light.along_y));
    offset = hn::Set(f, static_cast<float>(p.light.offset));
    per_size = hn::Set(f, static_cast<float>(1 / p.size));
  }

  /// Behind the last sample the columns are zero.
  HWY_INLINE void operator()(size_t i, V* HWY_RESTRICT out) const {
    const Floats f;
    const auto x = hn::LoadU(f, samples.x.data() + i), y = hn::LoadU(f, samples.y.data() + i),
               value = hn::LoadU(f, samples.value.data() + i);
    const auto in = hn::FirstN(f, samples.count - i);
    const auto slope = hn::MulAdd(along_x, x, hn::MulAdd(along_y, y, less)),
               here = hn::MulAdd(slope, hn::MulAdd(slope, bend, hn::Set(f, 1)), gain);
    const auto dx = hn::Mul(here, hn::LoadU(f, samples.dx.data() + i)),
               dy = hn::Mul(here, hn::LoadU(f, samples.dy.data() + i));
    out[0] = hn::Neg(dx), out[1] = hn::Neg(dy);
    out[2] = hn::Sub(hn::Mul(dx, y), hn::Mul(dy, x));
    out[3] = hn::Neg(hn::MulAdd(dx, x, hn::Mul(dy, y)));
    out[4] = value;
    out[5] = hn::Mul(value, hn::Mul(x, per_size)), out[6] = hn::Mul(value, hn::Mul(y, per_size));
    out[7] = hn::IfThenElseZero(in, hn::Set(f, 1));
    const auto grey = hn::LoadU(f, samples.grey.data() + i);
    out[8] = hn::IfThenElseZero(in, hn::Sub(hn::NegMulAdd(here, value, grey), offset));
  }
};

HWY_INLINE V left_after(const Constants<grey_unknowns>& step, const V* c) {
  auto left = c[grey_unknowns];
#pragma GCC unroll 16
  for (size_t k = 0; k < grey_unknowns; ++k) left = hn::NegMulAdd(step[k], c[k], left);
  return left;
}

/// The sums of the products of some columns, rows of the upper triangle: how many stand before a row.
constexpr size_t sums_before(size_t row, size_t columns) { return row * columns - row * (row - 1) / 2; }

/// Adds the products of the columns `first` to `last` with themselves and all after them, over a block of
/// vectors: few enough sums for a processor's registers.
template <size_t first, size_t last, size_t columns>
HWY_INLINE void add_products(const V (*block)[columns], size_t rows, V* sums) {
  constexpr size_t from = sums_before(first, columns), count = sums_before(last + 1, columns) - from;
  V sum[count];
#pragma GCC unroll 16
  for (size_t k = 0; k < count; ++k) sum[k] = sums[from + k];
  for (size_t i = 0; i < rows; ++i) {
    size_t k = 0;
#pragma GCC unroll 16
    for (size_t a = first; a <= last; ++a)
#pragma GCC unroll 16
      for (size_t b = a; b < columns; ++b, ++k) sum[k] = hn::MulAdd(block[i][a], block[i][b], sum[k]);
  }
#pragma GCC unroll 16
  for (size_t k = 0; k < count; ++k) sums[from + k] = sum[k];
}

/// Of `columns` that `fill` puts down for each vector of samples, the first `summed` sums, which `add` adds
/// up over a block.
template <size_t columns, size_t summed, class Fill, class Add>
HWY_INLINE void products_of(size_t count, double* sums, Fill fill, Add add) {
  const Floats f;
  const size_t lanes = hn::Lanes(f);
  constexpr size_t block_rows = 16, chunk_rows = 4 * block_rows;  // few enough for sums of floats
  V block[block_rows][columns], sum[summed];
  for (size_t start = 0; start < count; start += chunk_rows * lanes) {
    for (V& s : sum) s = hn::Zero(f);
    const size_t end = std::min(count, start + chunk_rows * lanes);
    for (size_t i = start; i < end;) {
      size_t rows = 0;
      for (; rows < block_rows && i < end; ++rows, i += lanes) fill(i, block[rows]);
      add(block, rows, sum);
    }
    for (size_t k = 0; k < summed; ++k)
      sums[k] += static_cast<double>(hn::GetLane(hn::SumOfLanes(f, sum[k])));
  }
}

template <class Fill>
HWY_INLINE void normal_products(size_t count, double* sums, Fill fill) {
  products_of<grey_columns, std::tuple_size_v<GreyProducts>>(
      count, sums, fill, [](const V(*block)[grey_columns], size_t rows, V* sum) HWY_ATTR {
        add_products<0, 0>(block, rows, sum);
        add_products<1, 1>(block, rows, sum);
        add_products<2, 2>(block, rows, sum);
        add_products<3, 4>(block, rows, sum);
        add_products<5, 8>(block, rows, sum);
      });
}

void products_kernel(const GreyProblem& problem, double* sums) {
  const Columns columns(problem);
  normal_products(problem.samples.count, sums, [&](size_t i, V* c) HWY_ATTR { columns(i, c); });
}

size_t residuals_kernel(const GreyProblem& problem, const double* by, size_t most, float* residuals) {
  const Floats f;
  const size_t lanes = hn::Lanes(f), count = problem.samples.count;
  const Columns columns(problem);
  const Constants<grey_unknowns> step(by);
  size_t told = 0;
  for (size_t i = 0; i + lanes <= count; i += lanes * std::max<size_t>(1, count / most), told += lanes) {
    V c[grey_columns];
    columns(i, c);
    hn::StoreU(left_after(step, c), f, residuals + told);
  }
  return told;
}

GreyWeights weigh_kernel(const GreyProblem& problem, const double* by, double end, float* roots) {
  const Floats f;
  const Columns columns(problem);
  const Constants<grey_unknowns> step(by);
  auto sum = hn::Zero(f), psi_derivative_sum = hn::Zero(f), sum_x = hn::Zero(f), sum_y = hn::Zero(f),
       squares = hn::Zero(f);
  const auto one = hn::Set(f, 1), four = hn::Set(f, 4), per = hn::Set(f, static_cast<float>(1 / end));
  const GreySamples& s = problem.samples;
  GreyWeights weights;
  normal_products(s.count, weights.products.data(), [&](size_t i, V* c) HWY_ATTR {
    columns(i, c);
    const auto u = hn::Mul(left_after(step, c), per), square = hn::Mul(u, u);
    const auto inside = hn::And(hn::Lt(square, one), hn::FirstN(f, s.count - i));
    const auto root = hn::IfThenElseZero(inside, hn::Sub(one, square)), weight = hn::Mul(root, root);
    hn::StoreU(root, f, roots + i);
#pragma GCC unroll 16
    for (size_t k = 0; k < grey_columns; ++k) c[k] = hn::Mul(c[k], root);
    const auto x = hn::LoadU(f, s.x.data() + i), y = hn::LoadU(f, s.y.data() + i);
    sum = hn::Add(sum, weight);
    psi_derivative_sum = hn::MulAdd(root, hn::NegMulAdd(four, square, root), psi_derivative_sum);
    sum_x = hn::MulAdd(weight, x, sum_x), sum_y = hn::MulAdd(weight, y, sum_y);
    squares = hn::MulAdd(weight, hn::MulAdd(x, x, hn::Mul(y, y)), squares);
  });
  const auto total = [&](V v) HWY_ATTR { return static_cast<double>(hn::GetLane(hn::SumOfLanes(f, v))); };
  weights.sum = total(sum), weights.psi_derivative_sum = total(psi_derivative_sum);
  weights.x = total(sum_x), weights.y = total(sum_y), weights.squares = total(squares);
  return weights;
}

/// Rows of the further columns alone: with each other, the unknowns, and last what is left.
constexpr size_t with_further = max_further + grey_columns,
                 further_sums = sums_before(max_further, with_further);

void further_kernel(const GreyProblem& problem, const double* by, const float* roots,
                    const FurtherColumns& further, double* sums) {
  const Floats f;
  const Columns columns(problem);
  const Constants<grey_unknowns> step(by);
  products_of<with_further, further_sums>(
      problem.samples.count, sums,
      [&](size_t i, V* out) HWY_ATTR {
        V* c = out + max_further;
        columns(i, c);
        const auto root = hn::LoadU(f, roots + i);
        c[grey_unknowns] = left_after(step, c);
        for (size_t k = 0; k < max_further; ++k)
          out[k] = further[k] ? hn::LoadU(f, further[k] + i) : hn::Zero(f);
#pragma GCC unroll 16
        for (size_t k = 0; k < with_further; ++k) out[k] = hn::Mul(out[k], root);
      },
      [](const V(*block)[with_further], size_t rows, V* sum) HWY_ATTR {
        add_products<0, 0>(block, rows, sum);
        add_products<1, 1>(block, rows, sum);
        add_products<2, 2>(block, rows, sum);
      });
}

void contributions_kernel(const GreyProblem& problem, const double* by, const float* roots,
                          const double* by_unknown, const GreyCells& cells, float* contributions) {
  const Floats f;
  const hn::RebindToSigned<Floats> whole;
  const Columns columns(problem);
  const Constants<grey_unknowns> step(by);
  const Constants<4 * grey_unknowns> influence(by_unknown);
  const GreySamples& s = problem.samples;
  const size_t lanes = hn::Lanes(f);
  const auto per = hn::Set(f, static_cast<float>(1 / cells.size));
  const auto from_x = hn::Set(f, static_cast<float>(cells.origin.x / cells.size)),
             from_y = hn::Set(f, static_cast<float>(cells.origin.y / cells.size));
  const auto across = hn::Set(whole, cells.across);
  constexpr size_t most = HWY_MAX_BYTES / sizeof(float);
  HWY_ALIGN int32_t cell[most];
  for (size_t i = 0; i < s.count; i += lanes) {
    V c[grey_columns], p[4];
    columns(i, c);
    const auto root = hn::LoadU(f, roots + i), weighed = hn::Mul(hn::Mul(root, root), left_after(step, c));
#pragma GCC unroll 16
    for (size_t r = 0; r < 4; ++r) {
      p[r] = hn::Mul(influence[r * grey_unknowns], c[0]);
#pragma GCC unroll 16
      for (size_t k = 1; k < grey_unknowns; ++k)
        p[r] = hn::MulAdd(influence[r * grey_unknowns + k], c[k], p[r]);
      p[r] = hn::Mul(p[r], weighed);
    }
    const auto place = [&](const std::vector<float>& column, V from) HWY_ATTR {
      return hn::ConvertTo(whole, hn::MulAdd(hn::LoadU(f, column.data() + i), per, from));
    };
    // Behind the last sample pulls are zero and go to the first cell: where the part's origin lies, which the
    // zeros there stand for, need not be one.
    const auto in = hn::RebindMask(whole, hn::FirstN(f, s.count - i));
    const auto at = hn::Add(hn::Mul(place(s.y, from_y), across), place(s.x, from_x));
    hn::Store(hn::IfThenElseZero(in, at), whole, cell);
    add_to_cells(p, cell, lanes, contributions);
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(products_kernel);
HWY_EXPORT(residuals_kernel);
HWY_EXPORT(weigh_kernel);
HWY_EXPORT(contributions_kernel);
HWY_EXPORT(further_kernel);

GreyProducts grey_products(const GreyProblem& problem) {
  GreyProducts sums{};
  HWY_DYNAMIC_DISPATCH(products_kernel)(problem, sums.data());
  return sums;
}

void some_residuals(const GreyProblem& problem, const GreyStep& step, size_t most,
                    std::vector<float>& residuals) {
  residuals.resize(problem.samples.count);
  residuals.resize(HWY_DYNAMIC_DISPATCH(residuals_kernel)(problem, step.data(), most, residuals.data()));
}

GreyWeights weigh(const GreyProblem& problem, const GreyStep& step, double end, std::vector<float>& roots) {
  roots.resize(problem.samples.x.size());
  return HWY_DYNAMIC_DISPATCH(weigh_kernel)(problem, step.data(), end, roots.data());
}

ExtraRegressors find_further(const GreyProblem& problem, const GreyStep& step,
                             const std::vector<float>& roots, const FurtherColumns& columns) {
  std::array<double, HWY_STATIC_DISPATCH(further_sums)> sums{};
  HWY_DYNAMIC_DISPATCH(further_kernel)(problem, step.data(), roots.data(), columns, sums.data());
  ExtraRegressors further;
  const double* sum = sums.data();
  for (Eigen::Index a = 0; a < further.own.rows(); ++a) {
    for (Eigen::Index b = a; b < further.own.cols(); ++b) further.own(a, b) = further.own(b, a) = *sum++;
    for (Eigen::Index k = 0; k < further.with.cols(); ++k) further.with(a, k) = *sum++;
    further.left[a] = *sum++;
  }
  return further;
}

void find_contributions(const GreyProblem& problem, const GreyStep& step, const std::vector<float>& roots,
                        const GreyInfluence& influence, const GreyCells& cells, GreyPulls& contributions) {
  const auto count = static_cast<size_t>(cells.across * cells.down);
  contributions.assign(sums_a_cell * count, Eigen::Vector4f::Zero());
  HWY_DYNAMIC_DISPATCH(contributions_kernel)
  (problem, step.data(), roots.data(), influence.data(), cells, contributions[0].data());
  merge_cells(contributions);
}

static float gain_at(const GreyProblem& p, size_t i) {
  const double slope =
      p.light.along_x * (p.samples.x[i] - p.middle.x) + p.light.along_y * (p.samples.y[i] - p.middle.y);
  return static_cast<float>(p.gain_in_the_middle() + slope + p.bend() * slope * slope);
}

/// Each unknown's share, and last what is left.
static std::array<double, grey_columns> grey_row(const GreyProblem& p, size_t i) {
  const GreySamples& s = p.samples;
  const float x = s.x[i], y = s.y[i], value = s.value[i], here = gain_at(p, i), dx = here * s.dx[i],
              dy = here * s.dy[i], share = value * static_cast<float>(1 / p.size);
  std::array<double, grey_columns> row{};
  const std::array<float, grey_columns> columns{
      -dx,       -dy, dx * y - dy * x,         -(dx * x + dy * y), value, share * x,
      share * y, 1,   s.grey[i] - here * value};
  for (size_t k = 0; k < row.size(); ++k) row[k] = static_cast<double>(columns[k]);
  row[grey_unknowns] -= p.light.offset;
  return row;
}

static double left_after(const GreyStep& step, const std::array<double, grey_columns>& row) {
  double left = row[grey_unknowns];
  for (size_t k = 0; k < grey_unknowns; ++k) left -= step[k] * row[k];
  return left;
}

static void add_products(const std::array<double, grey_columns>& row, double weight, GreyProducts& sums) {
  for (size_t a = 0, k = 0; a < grey_columns; ++a)
    for (size_t b = a; b < grey_columns; ++b, ++k) sums[k] += weight * row[a] * row[b];
}

GreyProducts grey_products_plain(const GreyProblem& problem) {
  GreyProducts sums{};
  for (size_t i = 0; i < problem.samples.count; ++i) add_products(grey_row(problem, i), 1, sums);
  return sums;
}

GreyWeights weigh_plain(const GreyProblem& problem, const GreyStep& step, double end,
                        std::vector<float>& roots) {
  roots.resize(problem.samples.x.size());
  GreyWeights w;
  for (size_t i = 0; i < problem.samples.count; ++i) {
    const auto row = grey_row(problem, i);
    const double u = left_after(step, row) / end, root = std::max(0.0, 1 - u * u), x = problem.samples.x[i],
                 y = problem.samples.y[i];
    roots[i] = static_cast<float>(root);
    w.sum += root * root, w.psi_derivative_sum += root > 0 ? root * (root - 4 * u * u) : 0;
    w.x += root * root * x, w.y += root * root * y, w.squares += root * root * (x * x + y * y);
    add_products(row, root * root, w.products);
  }
  return w;
}

ExtraRegressors find_further_plain(const GreyProblem& problem, const GreyStep& step,
                                   const std::vector<float>& roots, const FurtherColumns& columns) {
  ExtraRegressors further;
  further.with.setZero(), further.own.setZero(), further.left.setZero();
  for (size_t i = 0; i < problem.samples.count; ++i) {
    const auto row = grey_row(problem, i);
    const double weight = static_cast<double>(roots[i] * roots[i]);
    Eigen::Vector3d here = Eigen::Vector3d::Zero();
    for (size_t k = 0; k < max_further; ++k)
      if (columns[k]) here[static_cast<Eigen::Index>(k)] = static_cast<double>(columns[k][i]);
    further.own += weight * here * here.transpose();
    further.with += weight * here * Eigen::Map<const Eigen::Matrix<double, 1, grey_unknowns>>(row.data());
    further.left += weight * here * left_after(step, row);
  }
  return further;
}

void find_contributions_plain(const GreyProblem& problem, const GreyStep& step,
                              const std::vector<float>& roots, const GreyInfluence& influence,
                              const GreyCells& cells, GreyPulls& contributions) {
  contributions.assign(static_cast<size_t>(cells.across * cells.down), Eigen::Vector4f::Zero());
  for (size_t i = 0; i < problem.samples.count; ++i) {
    const auto row = grey_row(problem, i);
    const double weighed = static_cast<double>(roots[i] * roots[i]) * left_after(step, row);
    const auto place = [&](float v, double origin) {
      return static_cast<int>((static_cast<double>(v) + origin) / cells.size);
    };
    const int cell = place(problem.samples.y[i], cells.origin.y) * cells.across +
                     place(problem.samples.x[i], cells.origin.x);
    for (size_t r = 0; r < 4; ++r) {
      double sum = 0;
      for (size_t k = 0; k < grey_unknowns; ++k) sum += influence[r * grey_unknowns + k] * row[k];
      contributions[static_cast<size_t>(cell)][static_cast<Eigen::Index>(r)] +=
          static_cast<float>(sum * weighed);
    }
  }
}

}  // namespace heron
#endif
