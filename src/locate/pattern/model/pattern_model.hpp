#pragma once
#include <memory>
#include <vector>

#include "heron/locate/pattern.hpp"
#include "locate/edge_samples/edge_columns.hpp"

namespace heron {

/// The edges that a first search adds up on its level: at most 60, the first few already well spread.
struct CoarseEdges {
  int level = 0;
  std::vector<TaughtEdge> edges;
  std::vector<double> directions;  ///< of their normals, in 256ths of a turn
  std::vector<int> ends;  ///< of contour segments that may rise or fall, each by itself; empty: all as taught
  EdgeColumns columns;
};

struct GreyModel;
struct Rival;
class EdgeMap;

/// What a search reads of a taught pattern. It does not change after teaching, so targets share it.
class PatternModel {
 public:
  /// Throws as the constructor of `PatternTarget`.
  PatternModel(std::shared_ptr<const TaughtPicture> taught, const PatternSettings& settings);

  const std::string& name() const { return name_; }
  const Image<uint8_t>& pixels() const { return taught_->pixels; }
  const Image<uint8_t>& mask() const { return taught_->mask; }
  Point2 origin() const { return taught_->origin; }
  /// Grey levels over two pixels from which on edges were taught.
  double strength() const { return strength_; }

  /// Edges per pyramid level, the finest first; `place` is in pixels of level 0 on every level.
  const std::vector<std::vector<TaughtEdge>>& levels() const { return levels_; }
  /// What a fit reads on each level: all edges on level 0, at most 128 well spread ones above.
  const std::vector<EdgeColumns>& columns() const { return columns_; }
  /// At most 128 edges of level 0, for early candidates.
  const EdgeColumns& few_columns() const { return few_; }
  /// Those of the first search: of the coarsest level, and of the next finer one where each edge may rise or
  /// fall; neighbours that do not go together blur into something else on the coarsest.
  const CoarseEdges& coarse(bool each_by_itself = false) const {
    return each_by_itself ? coarse_each_ : coarse_alike_;
  }
  /// The taught picture as a surface; nothing where no pixel beside an edge is clear of the mask.
  const GreyModel* greys() const { return greys_.get(); }
  /// Box of all edges about the origin.
  const Box& extent() const { return extent_; }
  /// False for a part that looks the same at every angle; its angle is then reported as 0.
  bool has_angle() const { return has_angle_; }
  /// How often it looks the same in a full turn, 1 for most parts.
  int symmetry() const { return turns_; }
  Point2 symmetry_centre() const { return turn_centre_; }
  /// The same model with its origin in the middle of its edges where its own lies far from that; else itself.
  /// It is what a find looks for: about an origin far away every turn moves the part far, and a part may be
  /// whole in the picture when such an origin is not in it.
  const PatternModel& centred() const { return centred_ ? *centred_ : *this; }
  /// Where the middle of `centred` lies from the origin; (0, 0) where that is the model itself.
  Point2 to_centred() const { return centred().origin() - origin(); }
  /// Poses in which it looks much like itself, found when first asked for.
  const std::vector<Rival>& rivals() const;
  /// Its edges by place, made when first asked for.
  const EdgeMap& edge_map() const;

 private:
  void derive_levels(const Image<uint8_t>& filled, const PatternSettings& settings);
  void choose_edges(const Image<uint8_t>& filled);
  void add_centred(const PatternSettings& settings);

  std::string name_;
  std::shared_ptr<const TaughtPicture> taught_;
  double strength_ = 0, grey_unit_ = 1;
  std::vector<std::vector<TaughtEdge>> levels_;
  CoarseEdges coarse_alike_, coarse_each_;
  std::vector<EdgeColumns> columns_;
  EdgeColumns few_;
  std::shared_ptr<const GreyModel> greys_;
  Box extent_;
  bool has_angle_ = true;
  int turns_ = 1;
  Point2 turn_centre_;
  std::shared_ptr<const PatternModel> centred_;
  struct Self;
  std::shared_ptr<Self> self_;
};

}  // namespace heron
