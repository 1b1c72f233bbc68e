#include "heron/gauge/gauge.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "heron/gauge/rule.hpp"

namespace heron {
namespace {

constexpr const char
    *band_help = "X,Y,LENGTH,WIDTH,ANGLE of the band: centre, length along the scan, direction in degrees",
    *ring_help = "X,Y,INNER,OUTER,START,SWEEP of the ring, degrees; SWEEP 360 is the whole ring",
    *box_help = "X,Y,WIDTH,HEIGHT,ANGLE of a box: centre, size, direction of its width in degrees",
    *disc_help = "X,Y,RADIUS of a disc", *polygon_help = "X,Y of its corners one after the other",
    *change_help = "brightness change along the scan: rising (dark to bright), falling or either",
    *order_help = "which edge of the band: first, last or strongest",
    *threshold_help = "brightness step across an edge, grey levels; 0: chosen from the noise",
    *between_help = "names of the two gauges";
// In the order of the enums; "learn" and "all" are of taught edges alone.
const std::vector<const char*> change_words{"learn", "rising", "falling", "either"};
const std::vector<const char*> order_words{"first", "last", "strongest"};

}  // namespace

template <>
const std::vector<SettingRow<EdgeGauge>>& gauge_rows() {
  using G = EdgeGauge;
  static const std::vector<SettingRow<G>> rows{
      {"band", &G::band, band_help},
      {"ring", &G::ring, ring_help},
      {"change", setting_word<G, &G::change>(change_words), change_help},
      {"order", setting_word<G, &G::order>(order_words), order_help},
      {"threshold", &G::threshold, threshold_help}};
  return rows;
}

template <>
const std::vector<SettingRow<LineGauge>>& gauge_rows() {
  using G = LineGauge;
  static const std::vector<SettingRow<G>> rows{
      {"band", &G::band, band_help},
      {"through", &G::through, "names of two gauges whose points the line goes through, instead of a band"},
      {"reads", setting_word<G, &G::reads>({"straightness", "rms", "length"}),
       "straightness (peak to valley) or rms of a line in a band; length of a line through two points"},
      {"change", setting_word<G, &G::change>(change_words), change_help},
      {"order", setting_word<G, &G::order>(order_words), order_help},
      {"threshold", &G::threshold, threshold_help}};
  return rows;
}

template <>
const std::vector<SettingRow<CircleGauge>>& gauge_rows() {
  using G = CircleGauge;
  static const std::vector<SettingRow<G>> rows{
      {"ring", &G::ring, ring_help},
      {"reads", setting_word<G, &G::reads>({"diameter", "roundness"}),
       "diameter or roundness (peak to valley)"},
      {"change", setting_word<G, &G::change>(change_words),
       "brightness change outwards: rising, falling or either"},
      {"order", setting_word<G, &G::order>(order_words), "which edge outwards: first, last or strongest"},
      {"threshold", &G::threshold, threshold_help}};
  return rows;
}

template <>
const std::vector<SettingRow<DistanceGauge>>& gauge_rows() {
  using G = DistanceGauge;
  static const std::vector<SettingRow<G>> rows{
      {"between", &G::between, between_help},
      {"at", setting_word<G, &G::at>({"middle", "nearest", "farthest"}),
       "middle: between points and centres, of lines at their middle; nearest and farthest: rims and ends of "
       "lines"},
      {"with_sign", &G::with_sign, "true: positive where the second lies ahead of the first along its scan"},
      {"max_angle", &G::max_angle, "degrees that two lines may be off parallel"}};
  return rows;
}

template <>
const std::vector<SettingRow<AngleGauge>>& gauge_rows() {
  using G = AngleGauge;
  static const std::vector<SettingRow<G>> rows{{"between", &G::between, between_help},
                                               {"reads", setting_word<G, &G::reads>({"corner", "turn"}),
                                                "corner: of the corner that both scans look into, 0 to 180; "
                                                "turn: from the first line to the second, -180 to "
                                                "180, from x towards y (of the world with a mapping)"}};
  return rows;
}

template <>
const std::vector<SettingRow<WidthGauge>>& gauge_rows() {
  using G = WidthGauge;
  static const std::vector<SettingRow<G>> rows{
      {"band", &G::band, band_help},
      {"pair", setting_word<G, &G::pair>({"nearest", "widest", "narrowest", "outermost", "all"}),
       "which pair of opposite edges: nearest to the band's middle, widest, narrowest, outermost, or the "
       "mean of all"},
      {"tone", setting_word<G, &G::tone>({"either", "bright", "dark"}),
       "what lies between the edges: bright, dark or either"},
      {"threshold", &G::threshold, threshold_help}};
  return rows;
}

template <>
const std::vector<SettingRow<RepeatsGauge>>& gauge_rows() {
  using G = RepeatsGauge;
  static const std::vector<SettingRow<G>> rows{
      {"band", &G::band, band_help},
      {"ring", &G::ring, ring_help},
      {"change", setting_word<G, &G::change>(change_words),
       "rising or falling counts each tooth once, either twice"},
      {"reads", setting_word<G, &G::reads>({"count", "pitch", "error", "missing"}),
       "count; mean pitch; error: the largest distance of an edge from the even grid; missing: number of "
       "missing ones"},
      {"threshold", &G::threshold, threshold_help}};
  return rows;
}

template <>
const std::vector<SettingRow<FillGauge>>& gauge_rows() {
  using G = FillGauge;
  static const std::vector<SettingRow<G>> rows{
      {"box", &G::box, box_help},
      {"disc", &G::disc, disc_help},
      {"ring", &G::ring, ring_help},
      {"polygon", &G::polygon, polygon_help},
      {"levels", &G::levels, "LEAST,MOST grey level of what counts, both included"},
      {"color", &G::color, "name of a color target whose range counts, instead of levels"},
      {"light_box", &G::light_box,
       "a box of even brightness on the part: the levels follow it when the light changes"},
      {"light_level", &G::light_level, "mean grey level of that box on the reference picture", true}};
  return rows;
}

template <>
const std::vector<SettingRow<BlobsGauge>>& gauge_rows() {
  using G = BlobsGauge;
  static const std::vector<SettingRow<G>> rows{
      {"box", &G::box, box_help},
      {"disc", &G::disc, disc_help},
      {"ring", &G::ring, ring_help},
      {"polygon", &G::polygon, polygon_help},
      {"tone", setting_word<G, &G::tone>({"bright", "dark"}), "bright or dark blobs"},
      {"threshold", setting_word<G, &G::threshold>({"valley", "fixed", "relative"}),
       "valley: between the two groups of grey levels; fixed: level; relative: level times the shape's "
       "median"},
      {"level", &G::level, "grey level of a fixed threshold, or factor of a relative one"},
      {"min_area", &G::min_area, "smallest blob that counts, square pixels of the reference picture"},
      {"max_area", &G::max_area, "largest blob that counts, square pixels; 0: any"},
      {"reads", setting_word<G, &G::reads>({"count", "area", "largest"}),
       "count, total area, or area of the largest"}};
  return rows;
}

template <>
const std::vector<SettingRow<DetailGauge>>& gauge_rows() {
  using G = DetailGauge;
  static const std::vector<SettingRow<G>> rows{
      {"target", &G::target, "name of the detail's target"},
      {"reads", setting_word<G, &G::reads>({"offset", "angle", "score"}),
       "offset from its place, angle against the part, or score"},
      {"position_tolerance", &G::position_tolerance, "pixels about its place in which it is searched for"},
      {"angle_tolerance", &G::angle_tolerance, "degrees about its angle in which it is searched for"}};
  return rows;
}

template <>
const std::vector<SettingRow<CountGauge>>& gauge_rows() {
  using G = CountGauge;
  static const std::vector<SettingRow<G>> rows{{"target", &G::target, "name of the target that is counted"},
                                               {"box", &G::box, box_help},
                                               {"disc", &G::disc, disc_help},
                                               {"ring", &G::ring, ring_help},
                                               {"polygon", &G::polygon, polygon_help}};
  return rows;
}

template <>
const std::vector<SettingRow<BorderGauge>>& gauge_rows() {
  using G = BorderGauge;
  static const std::vector<SettingRow<G>> rows{
      {"target", &G::target, "name of the border target"},
      {"reads", setting_word<G, &G::reads>({"chips", "largest", "length", "depth"}),
       "number of chips; area of the largest; length or depth of the longest or deepest"},
      {"position_tolerance", &G::position_tolerance, "pixels about its place in which it is searched for"},
      {"angle_tolerance", &G::angle_tolerance, "degrees about its angle in which it is searched for"}};
  return rows;
}

template <>
const std::vector<SettingRow<ProfileGauge>>& gauge_rows() {
  using G = ProfileGauge;
  static const std::vector<SettingRow<G>> rows{
      {"band", &G::band, band_help},
      {"reads", setting_word<G, &G::reads>({"step", "slope", "flatness", "highest", "volume"}),
       "step: after less before the largest one along the band; slope; flatness (peak to valley); highest "
       "place; volume "
       "of the band's area above base_mm"},
      {"base_mm", &G::base_mm, "height above which volume counts, millimetres"}};
  return rows;
}

template <>
const std::vector<SettingRow<CropGauge>>& gauge_rows() {
  using G = CropGauge;
  static const std::vector<SettingRow<G>> rows{
      {"box", &G::box, box_help},
      {"height", &G::height, "pixels of the picture that is cut out; its width follows the box"},
      {"program", &G::program,
       "command line of a reader: gets the picture as PNG, answers a line or JSON; empty: not read"},
      {"pattern", &G::pattern, "regular expression that the whole text must match"},
      {"allowed", &G::allowed, "texts with commas between, one of which it must be"},
      {"min_confidence", &G::min_confidence, "lowest confidence of a text, 0 to 1"},
      {"timeout_s", &G::timeout_s, "seconds that the reader has"}};
  return rows;
}

template <>
const std::vector<SettingRow<ValueGauge>>& gauge_rows() {
  using G = ValueGauge;
  static const std::vector<SettingRow<G>> rows{{"of", &G::of, "name of the gauge that was measured"},
                                               {"reads", &G::reads, "name of its value"}};
  return rows;
}

const char* id_of(const GaugeKind& kind) {
  return std::visit([](const auto& k) { return std::decay_t<decltype(k)>::id; }, kind);
}
const char* what_of(const GaugeKind& kind) {
  return std::visit([](const auto& k) { return std::decay_t<decltype(k)>::what; }, kind);
}
const char* kind_of(const Gauge& gauge) { return id_of(gauge.kind); }

namespace {

template <size_t index = 0>
void gather(std::vector<GaugeKind>& all) {
  all.push_back(std::variant_alternative_t<index, GaugeKind>{});
  if constexpr (index + 1 < std::variant_size_v<GaugeKind>) gather<index + 1>(all);
}

}  // namespace

std::vector<GaugeKind> gauge_kinds() {
  std::vector<GaugeKind> all;
  gather(all);
  return all;
}

std::vector<NamedSetting> settings_of(const GaugeKind& kind) {
  return std::visit(
      []<class Kind>(const Kind& k) {
        std::vector<NamedSetting> named;
        for (const auto& row : gauge_rows<Kind>())
          named.push_back({row.name, value_of(row, k), row.help, row.learned});
        return named;
      },
      kind);
}

void set_setting(GaugeKind& kind, const std::string& name, const SettingValue& value) {
  std::visit(
      [&]<class Kind>(Kind& k) {
        std::vector<std::string> there;
        for (const auto& row : gauge_rows<Kind>()) {
          if (row.name == name) return set_value(row, k, value);
          there.emplace_back(row.name);
        }
        fail_argument(fmt::format("a gauge of kind {} has no setting '{}'; it has: {}", Kind::id, name,
                                  fmt::join(there, ", ")));
      },
      kind);
}

GaugeKind gauge_kind_named(const std::string& id) {
  std::vector<std::string> there;
  for (GaugeKind& kind : gauge_kinds()) {
    if (id == id_of(kind)) return kind;
    there.emplace_back(id_of(kind));
  }
  fail_argument(fmt::format("'{}' is no kind of gauge; there are: {}", id, fmt::join(there, ", ")));
}

const Gauge* GaugeSet::gauge(const std::string& name) const {
  for (const Gauge& g : gauges)
    if (g.name == name) return &g;
  return nullptr;
}
const GaugeTarget* GaugeSet::target(const std::string& name) const {
  for (const GaugeTarget& t : targets)
    if (t.name == name) return &t;
  return nullptr;
}

std::vector<std::string> needed_by(const Gauge& gauge, const GaugeSet& gauges) {
  std::vector<std::string> needed = std::visit(
      [](const auto& kind) -> std::vector<std::string> {
        if constexpr (requires { kind.between; })
          return kind.between;
        else if constexpr (requires { kind.through; })
          return kind.through;
        else if constexpr (requires { kind.of; })
          return {kind.of};
        else
          return {};
      },
      gauge.kind);
  if (gauges.gauge(gauge.anchor)) needed.push_back(gauge.anchor);
  return needed;
}

std::vector<size_t> order_of(const GaugeSet& set) {
  enum class State { untouched, open, done };
  std::vector<State> states(set.gauges.size(), State::untouched);
  std::vector<size_t> order, path;
  // The sets are small, and a chain is no longer than the set.
  const auto visit = [&](auto& self, size_t i) -> void {
    if (states[i] == State::done) return;
    if (states[i] == State::open) {
      std::vector<std::string> members;
      for (auto at = std::find(path.begin(), path.end(), i); at != path.end(); ++at)
        members.push_back("'" + set.gauges[*at].name + "'");
      members.push_back(members.front());
      fail_argument(fmt::format("gauges need each other in a circle: {}", fmt::join(members, " needs ")));
    }
    states[i] = State::open, path.push_back(i);
    for (const std::string& name : needed_by(set.gauges[i], set))
      for (size_t j = 0; j < set.gauges.size(); ++j)
        if (set.gauges[j].name == name) self(self, j);
    states[i] = State::done, path.pop_back(), order.push_back(i);
  };
  for (size_t i = 0; i < set.gauges.size(); ++i) visit(visit, i);
  return order;
}

}  // namespace heron
