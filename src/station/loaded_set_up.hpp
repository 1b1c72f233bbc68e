#pragma once
#include "carried_mapping.hpp"
#include "grasping.hpp"
#include "height_view.hpp"
#include "heron/files/target_file.hpp"
#include "heron/gauge/gauge.hpp"
#include "heron/image/picture.hpp"
#include "heron/report/report.hpp"
#include "heron/station/station_file.hpp"

namespace heron {

/// A set-up with everything that it names, checked. It does not change, so that a picture is looked at with
/// one set-up from its beginning to its end, whatever is selected meanwhile.
class LoadedSetUp {
 public:
  /// Throws Error{bad_file} when a part is missing or broken, Error{invalid_argument} when the parts do not
  /// fit together. `hash`: settings_hash before loading, so that what changes in between is loaded again.
  LoadedSetUp(SetUp setup, std::string hash);

  /// The parts in their order, with their readings; `number` and `withheld` are the station's affair.
  /// `carried`: by the ring marks of an earlier picture; nothing: they are looked for in this one where the
  /// set-up wants them.
  Report examine(const Picture& picture, const RobotFromWorld& robot_from_world, Work* stop,
                 const CarriedMapping* carried = nullptr) const;
  /// What a picture's ring marks say of the mapping; only where the set-up has marks. Throws as
  /// carry_mapping.
  CarriedMapping carry(const Picture& picture) const;

  /// A picture as its report's parts lie on it: grey levels; a height map leveled, on square pixels, the
  /// highest places bright.
  Image<uint8_t> view(const Picture& picture) const;

  const SetUp& settings() const { return setup_; }
  const std::string& hash() const { return hash_; }
  bool has_gauge(const std::string& name) const { return gauges_ && gauges_->gauge(name); }
  /// Throws Error{invalid_argument} for a picture of another size than the mapping's.
  void require_size(const std::string& name, int width, int height) const;
  /// The same for the pictures that another set-up looked at, by its mapping.
  void require_size_of(const LoadedSetUp& before) const;

 private:
  struct Loaded {
    Target target;
    FindOptions options;
  };
  CarriedMapping carry_or_say(const Picture& picture) const;
  void look(Report& report, const Picture& picture, const RobotFromWorld& robot_from_world, Work* stop,
            const CarriedMapping* carried) const;
  void look_at_heights(Report& report, const Picture& picture, const RobotFromWorld& robot_from_world,
                       Work* stop) const;
  Frames frames(const Mapping& mapping, const RobotFromWorld& robot_from_world,
                const RobotFromUser& robot_from_user) const;
  Explain explain() const { return setup_.quick ? Explain::never : Explain::always; }
  bool chooses_grasps() const;
  void load_nest();
  void load_table();
  void find_nests(Report& report, const PreparedPicture& prepared, const Frames& frames, Work* stop) const;
  void watch(Report& report, const Picture& picture) const;
  void watch_reference(Report& report, const PreparedPicture& prepared, Work* stop) const;
  void load_reference();
  void require_frame() const;
  void require_marks() const;
  void load_targets();
  void load_gauge_set();

  SetUp setup_;
  std::string hash_;
  MappingRecord mapping_;  ///< empty where height maps have none
  std::optional<HeightView> heights_;
  std::vector<Loaded> targets_;
  std::map<std::string, Graspable> graspable_;  ///< the targets by their names
  std::optional<Loaded> reference_;             ///< whose place is watched
  Image<uint8_t> table_;                        ///< without parts; empty where it is not known
  std::optional<Loaded> nest_;                  ///< where parts are put
  std::optional<GaugeSet> gauges_;
  bool looks_at_color_ = false;
};

}  // namespace heron
