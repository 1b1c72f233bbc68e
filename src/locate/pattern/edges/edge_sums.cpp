#include "locate/pattern/edges/edge_sums.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/pattern/edges/edge_sums.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "locate/common/add_to_cells-inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using Floats = hn::ScalableTag<float>;
using V = hn::Vec<Floats>;

/// A vector of edges: which point the right way, their distances (else zero), and the unknowns' shares.
struct Edges {
  hn::Mask<Floats> aligned;
  V offset, row[edge_unknowns];

  HWY_INLINE Edges(const EdgeColumns& edges, const EdgeSamples& met, float scale, size_t i) {
    const Floats f;
    aligned = hn::And(hn::And(hn::Gt(hn::LoadU(f, met.contrast.data() + i), hn::Zero(f)),
                              hn::Gt(hn::LoadU(f, met.cosine.data() + i), hn::Set(f, min_cosine))),
                      hn::FirstN(f, edges.count - i));
    offset = hn::IfThenElseZero(aligned, hn::LoadU(f, met.offset.data() + i));
    const auto x = hn::Mul(hn::Set(f, scale), hn::LoadU(f, edges.x.data() + i)),
               y = hn::Mul(hn::Set(f, scale), hn::LoadU(f, edges.y.data() + i));
    row[0] = hn::LoadU(f, edges.normal_x.data() + i), row[1] = hn::LoadU(f, edges.normal_y.data() + i);
    row[2] = hn::Sub(hn::Mul(x, row[1]), hn::Mul(y, row[0]));
    row[3] = hn::MulAdd(x, row[0], hn::Mul(y, row[1]));
  }
  /// Of the weights, which end at a distance of 1 / `per`.
  HWY_INLINE V tukey_root(V per) const {
    const Floats f;
    const auto one = hn::Set(f, 1), u = hn::Mul(offset, per), square = hn::Mul(u, u);
    return hn::IfThenElseZero(hn::And(aligned, hn::Lt(square, one)), hn::Sub(one, square));
  }
};

EdgeSums sums_kernel(const EdgeColumns& edges, const EdgeSamples& met, double scale, double end) {
  const Floats f;
  const auto one = hn::Set(f, 1), per = hn::Set(f, static_cast<float>(1 / end));
  const size_t lanes = hn::Lanes(f), block = 64 * lanes;
  EdgeSums sums;
  for (size_t start = 0; start < edges.count; start += block) {  // few enough for sums of floats
    V products[std::tuple_size_v<decltype(EdgeSums::products)>], contribution[edge_unknowns];
    for (V& v : products) v = hn::Zero(f);
    for (V& v : contribution) v = hn::Zero(f);
    auto weights = hn::Zero(f), psi_derivative_sum = hn::Zero(f), count = hn::Zero(f);
    for (size_t i = start; i < std::min(edges.count, start + block); i += lanes) {
      const Edges e(edges, met, static_cast<float>(scale), i);
      const auto u = hn::Mul(e.offset, per), square = hn::Mul(u, u), root = e.tukey_root(per);
      const auto weight = hn::Mul(root, root);
      count = hn::Add(count, hn::IfThenElseZero(e.aligned, one));
      weights = hn::Add(weights, weight);
      psi_derivative_sum = hn::MulAdd(root, hn::NegMulAdd(hn::Set(f, 4), square, root), psi_derivative_sum);
      size_t k = 0;
#pragma GCC unroll 4
      for (size_t a = 0; a < edge_unknowns; ++a) {
        const auto weighed = hn::Mul(weight, e.row[a]);
        contribution[a] = hn::MulAdd(weighed, e.offset, contribution[a]);
#pragma GCC unroll 4
        for (size_t b = a; b < edge_unknowns; ++b, ++k)
          products[k] = hn::MulAdd(weighed, e.row[b], products[k]);
      }
    }
    const auto total = [&](V v) HWY_ATTR { return static_cast<double>(hn::GetLane(hn::SumOfLanes(f, v))); };
    for (size_t k = 0; k < sums.products.size(); ++k) sums.products[k] += total(products[k]);
    for (size_t k = 0; k < edge_unknowns; ++k) sums.contribution[k] += total(contribution[k]);
    sums.weights += total(weights), sums.psi_derivative_sum += total(psi_derivative_sum),
        sums.aligned += total(count);
  }
  return sums;
}

void contributions_kernel(const EdgeColumns& edges, const EdgeSamples& met, const EdgesMatched& matched,
                          double scale, double end, float* contributions) {
  const Floats f;
  const auto per = hn::Set(f, static_cast<float>(1 / end));
  const size_t lanes = hn::Lanes(f);
  for (size_t i = 0; i < edges.count; i += lanes) {
    const Edges e(edges, met, static_cast<float>(scale), i);
    const auto root = e.tukey_root(per);
    const auto weighed = hn::Mul(hn::Mul(root, root), hn::LoadU(f, matched.offsets.data() + i));
    const V contribution[edge_unknowns] = {hn::Mul(weighed, e.row[0]), hn::Mul(weighed, e.row[1]),
                                           hn::Mul(weighed, e.row[2]), hn::Mul(weighed, e.row[3])};
    add_to_cells(contribution, edges.cell.data() + i, std::min(lanes, edges.count - i), contributions);
  }
}

double match_kernel(const EdgeColumns& edges, const EdgeSamples& met, double scale, const double* step,
                    EdgesMatched& matched) {
  const Floats f;
  const auto set = [&](double v) HWY_ATTR { return hn::Set(f, static_cast<float>(v)); };
  const auto share = [&](V v) HWY_ATTR { return hn::Min(hn::Max(v, hn::Zero(f)), hn::Set(f, 1)); };
  const auto per = set(1 / (0.927 - static_cast<double>(min_cosine)));
  const V by[edge_unknowns] = {set(step[0]), set(step[1]), set(step[2]), set(step[3])};
  auto sum = hn::Zero(f);
  for (size_t i = 0; i < edges.count; i += hn::Lanes(f)) {
    const Edges e(edges, met, static_cast<float>(scale), i);
    const auto is_met =
        hn::And(hn::Gt(hn::LoadU(f, met.contrast.data() + i), hn::Zero(f)), hn::FirstN(f, edges.count - i));
    auto offset = hn::LoadU(f, met.offset.data() + i);
#pragma GCC unroll 4
    for (size_t k = 0; k < edge_unknowns; ++k) offset = hn::NegMulAdd(by[k], e.row[k], offset);
    hn::StoreU(hn::IfThenElseZero(is_met, offset), f, matched.offsets.data() + i);
    const auto near = share(hn::Mul(hn::Sub(set(2.5), hn::Abs(offset)), set(0.5)));
    const auto cosine = hn::LoadU(f, met.cosine.data() + i);
    const auto along = share(hn::Mul(hn::Sub(cosine, hn::Set(f, min_cosine)), per));
    const auto weight = hn::IfThenElseZero(e.aligned, hn::Mul(near, along));
    hn::StoreU(weight, f, matched.weights.data() + i);
    sum = hn::Add(sum, weight);
  }
  return static_cast<double>(hn::GetLane(hn::SumOfLanes(f, sum)));
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(sums_kernel);
HWY_EXPORT(match_kernel);
HWY_EXPORT(contributions_kernel);

EdgeSums edge_sums(const EdgeColumns& edges, const EdgeSamples& met, double scale, double end) {
  return HWY_DYNAMIC_DISPATCH(sums_kernel)(edges, met, scale, end);
}

static void make_room(const EdgeColumns& edges, EdgesMatched& matched) {
  for (std::vector<float>* column : {&matched.offsets, &matched.weights})
    if (column->size() < edges.x.size()) column->resize(edges.x.size());
}

double match_edges(const EdgeColumns& edges, const EdgeSamples& met, double scale, const EdgeStep& step,
                   EdgesMatched& matched) {
  make_room(edges, matched);
  return HWY_DYNAMIC_DISPATCH(match_kernel)(edges, met, scale, step.data(), matched);
}

void edge_contributions(const EdgeColumns& edges, const EdgeSamples& met, const EdgesMatched& matched,
                        double scale, double end, EdgePulls& contributions) {
  contributions.assign(sums_a_cell * static_cast<size_t>(edges.cells), Eigen::Vector4f::Zero());
  HWY_DYNAMIC_DISPATCH(contributions_kernel)(edges, met, matched, scale, end, contributions[0].data());
  merge_cells(contributions);
}

void edge_contributions_plain(const EdgeColumns& edges, const EdgeSamples& met, const EdgesMatched& matched,
                              double scale, double end, EdgePulls& contributions) {
  contributions.assign(static_cast<size_t>(edges.cells), Eigen::Vector4f::Zero());
  for (size_t i = 0; i < edges.count; ++i) {
    const double u = static_cast<double>(met.offset[i]) / end, root = 1 - u * u;
    if (!aligned(met, i) || root <= 0) continue;
    const auto row = edge_row(edges, scale, i);
    contributions[static_cast<size_t>(edges.cell[i])] +=
        static_cast<float>(root * root) * matched.offsets[i] *
        Eigen::Map<const Eigen::Vector4d>(row.data()).cast<float>();
  }
}

EdgeSums edge_sums_plain(const EdgeColumns& edges, const EdgeSamples& met, double scale, double end) {
  EdgeSums sums;
  for (size_t i = 0; i < edges.count; ++i) {
    if (!aligned(met, i)) continue;
    ++sums.aligned;
    const double offset = met.offset[i], u = offset / end;
    if (std::abs(u) >= 1) continue;
    const double root = 1 - u * u, weight = root * root;
    sums.weights += weight, sums.psi_derivative_sum += root * (root - 4 * u * u);
    const auto row = edge_row(edges, scale, i);
    for (size_t a = 0, k = 0; a < edge_unknowns; ++a) {
      sums.contribution[a] += weight * row[a] * offset;
      for (size_t b = a; b < edge_unknowns; ++b, ++k) sums.products[k] += weight * row[a] * row[b];
    }
  }
  return sums;
}

/// How much of an edge is seen.
static float match_weight(float offset, float cosine) {
  const float near = std::clamp((2.5f - std::abs(offset)) / 2.0f, 0.0f, 1.0f);
  const float aligned = std::clamp((cosine - min_cosine) / (0.927f - min_cosine), 0.0f, 1.0f);
  return near * aligned;
}

double match_edges_plain(const EdgeColumns& edges, const EdgeSamples& met, double scale, const EdgeStep& step,
                         EdgesMatched& matched) {
  make_room(edges, matched);
  double sum = 0;
  for (size_t i = 0; i < edges.count; ++i) {
    matched.offsets[i] = matched.weights[i] = 0;
    if (!(met.contrast[i] > 0)) continue;
    double offset = met.offset[i];
    const auto row = edge_row(edges, scale, i);
    for (size_t k = 0; k < edge_unknowns; ++k) offset -= step[k] * row[k];
    matched.offsets[i] = static_cast<float>(offset);
    if (aligned(met, i)) matched.weights[i] = match_weight(matched.offsets[i], met.cosine[i]);
    sum += static_cast<double>(matched.weights[i]);
  }
  return sum;
}

}  // namespace heron
#endif
