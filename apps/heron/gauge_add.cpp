#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "gauge.hpp"
#include "gauge_options.hpp"
#include "gauge_table.hpp"
#include "help.hpp"
#include "heron/files/gauge_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/target_file.hpp"
#include "heron/gauge/measure.hpp"
#include "heron/reader/reader.hpp"
#include "log.hpp"
#include "options.hpp"

namespace heron::tool {
namespace {

struct AddCommand {
  std::string file, name, kind, anchor, follows, reference, mapping, nominal;
  std::vector<std::string> targets;
  std::optional<double> tolerance, min, max;
  bool inside = false, replace = false;
  GaugeOptions settings;
};

/// A path as the file beside which it is kept says it.
std::string beside(const std::string& path, const std::string& file) {
  const auto folder = std::filesystem::absolute(file).parent_path();
  return std::filesystem::absolute(path)
      .lexically_normal()
      .lexically_relative(folder.lexically_normal())
      .string();
}

/// Attaches a target by its file, unless the set has it; returns its name.
std::string target_by_file(GaugeSet& set, const std::string& path, const std::string& file,
                           const PreparedPicture& reference, std::optional<Point2> near) {
  const Target target = load_target(path).target;
  if (const GaugeTarget* known = set.target(target.name())) {
    if (!known->changed.empty())
      fail_argument(
          fmt::format("gauge add: target '{}' was taught again since its gauges were drawn ({} changed); "
                      "`heron gauge confirm {}` first",
                      known->name, known->changed, file));
    return known->name;
  }
  auto attached_target = attached(target, beside(path, file), reference, near);
  const bool has_place = target.info().id != ColorTarget::info().id;
  if (!attached_target && has_place)
    throw Error(
        ErrorCode::not_determined,
        fmt::format(
            "gauge add: target '{}' is not found on the reference picture; `heron find {} PICTURE` says why",
            target.name(), path));
  set.targets.push_back(attached_target ? *attached_target
                                        : GaugeTarget{.name = target.name(),
                                                      .file = beside(path, file),
                                                      .stamp = stamp_of(target),
                                                      .target = target});
  return target.name();
}

/// A shape that was drawn on another part than the one that the gauges of a target are drawn on measures the
/// wrong place.
void note_other_part(const GaugeSet& set, const Gauge& gauge, const PreparedPicture& reference,
                     std::optional<Point2> drawn) {
  const GaugeTarget* target = set.target(gauge.anchor);
  if (!target || !target->target || !drawn) return;
  const auto nearest = attached(*target->target, target->file, reference, drawn);
  if (!nearest || distance(nearest->reference.position(), target->reference.position()) < 2) return;
  log_note(
      "gauge add: note: '{}' is drawn nearer to the '{}' at ({:.0f}, {:.0f}) than to the one at ({:.0f}, "
      "{:.0f}), which "
      "the gauges are drawn on; draw it there",
      gauge.name, target->name, nearest->reference.x, nearest->reference.y, target->reference.x,
      target->reference.y);
}

bool is_file(const std::string& text) { return text.size() > 4 && text.substr(text.size() - 4) == ".png"; }

void set_limits(Gauge& gauge, const AddCommand& o, const GaugeSet& set, const PreparedPicture& reference,
                const Frames& frames, const MeasureOptions& options) {
  if ((o.min || o.max) && (!o.nominal.empty() || o.tolerance))
    fail_argument("gauge add: --min and --max, or --nominal and --tolerance; not both");
  if (o.nominal.empty() != !o.tolerance)
    fail_argument("gauge add: --nominal and --tolerance belong together");
  gauge.limits = {o.min, o.max};
  if (o.tolerance && !(*o.tolerance >= 0)) fail_argument("gauge add: --tolerance must be at least 0");
  GaugeSet trial = set;
  const std::vector<Reading> present = add_gauge(trial, gauge, reference, frames, options);
  if (present.empty()) return;
  if (o.tolerance) {
    double nominal = 0;
    if (o.nominal == "present") {
      if (!present[0].value)
        throw Error(ErrorCode::not_determined,
                    fmt::format("gauge add: there is no present value: {} is {}: {}", gauge.name,
                                word_of(present[0].state), present[0].reason));
      nominal = *present[0].value;
    } else {
      nominal = parse_numbers(o.nominal, 1, "--nominal", "a number, or the word present")[0];
    }
    gauge.limits = {nominal - *o.tolerance, nominal + *o.tolerance};
  }
  if (gauge.limits.any()) gauge.unit = present[0].unit;
}

/// Color serves every kind of target; a height map is prepared for the one that the gauge follows.
PreparedPicture prepared_reference(const Picture& picture, const GaugeSet& set, const std::string& anchor) {
  if (const auto* color = std::get_if<Image<Rgb>>(&picture.pixels))
    return PreparedPicture(Image<Rgb>(color->view()));
  const bool heights = std::holds_alternative<Image<float>>(picture.pixels);
  return heights && is_file(anchor) ? prepare(picture, load_target(anchor).target) : prepare(picture, set);
}

int add(AddCommand o) {
  const bool there = std::filesystem::exists(o.file);
  GaugeSet set = there ? load_gauges(o.file) : GaugeSet{};
  if (!there && o.reference.empty())
    fail_argument(fmt::format(
        "gauge add: {} is new; --reference names the picture that its shapes are drawn on", o.file));
  if (!o.reference.empty()) {
    const std::string path = beside(o.reference, o.file);
    if (there && path != set.reference_picture)
      fail_argument(fmt::format("gauge add: shapes of {} are drawn on {}, not on {}", o.file,
                                set.reference_picture, path));
    set.reference_picture = path;
  }
  const auto folder = std::filesystem::path(o.file).parent_path();
  const std::string reference_path = (folder / set.reference_picture).string();
  Picture picture = load_picture(reference_path);
  require_not_read({o.file}, {reference_path, o.mapping});
  std::optional<MappingRecord> mapping;
  if (!o.mapping.empty()) mapping = load_mapping(o.mapping);
  const Frames frames = frames_of(mapping);
  Gauge gauge{.name = o.name, .follows = o.follows.empty() ? Follows{} : parse_follows(o.follows)};
  gauge.outside = o.inside ? OutsidePicture::inside : OutsidePicture::refuse;
  gauge.kind = o.settings.applied_to(gauge_kind_named(o.kind));
  picture.name = reference_path;
  const PreparedPicture reference = prepared_reference(picture, set, o.anchor);
  const MeasureOptions options{.heights = height_map_of(picture)};
  // Of several parts on the reference picture the shape was drawn on one.
  std::optional<Point2> near = drawn_at(gauge.kind);
  if (o.anchor == "world") near.reset();
  gauge.anchor = is_file(o.anchor) ? target_by_file(set, o.anchor, o.file, reference, near) : o.anchor;
  if (const GaugeTarget* anchor = set.target(gauge.anchor); anchor && !near)
    near = anchor->reference.position();
  note_other_part(set, gauge, reference, drawn_at(gauge.kind));
  for (const std::string& path : o.targets) target_by_file(set, path, o.file, reference, near);
  const auto old =
      std::find_if(set.gauges.begin(), set.gauges.end(), [&](const Gauge& g) { return g.name == o.name; });
  size_t place = set.gauges.size();
  if (old != set.gauges.end()) {
    if (!o.replace)
      fail_argument(fmt::format("gauge add: {} has a gauge '{}'; --replace puts this one in its place",
                                o.file, o.name));
    place = static_cast<size_t>(old - set.gauges.begin());
    set.gauges.erase(old);
  }
  set_limits(gauge, o, set, reference, frames, options);
  Report report;
  report.picture = reference_path;
  report.readings = add_gauge(set, gauge, reference, frames, options);
  read_crops(report, set);
  std::rotate(set.gauges.begin() + static_cast<ptrdiff_t>(place), set.gauges.end() - 1, set.gauges.end());
  save_gauges(o.file, set);
  fmt::print("{}: {} gauges; on the reference picture:\n", o.file, set.gauges.size());
  for (const Reading& r : report.readings) print_reading(r);
  return 0;
}

}  // namespace

void add_gauge_add(CLI::App& gauge, Action& action) {
  auto o = std::make_shared<AddCommand>();
  CLI::App* c = gauge.add_subcommand("add", "Adds a gauge whose shape is drawn on a reference picture");
  const auto option = [&](const char* group, const char* name, auto& value, const char* help) {
    return c->add_option(name, value, help)->group(group);
  };
  c->add_option("gauges", o->file, "gauge file; made when it is not there")->required();
  option(what_group, "--name", o->name, "name of the gauge")->required();
  std::string kinds;
  for (const GaugeKind& kind : gauge_kinds())
    kinds += fmt::format("{}{}", kinds.empty() ? "" : ", ", id_of(kind));
  option(what_group, "--kind", o->kind, "")->required()->description("what it measures: " + kinds);
  option(what_group, "--target-file", o->targets,
         "target file that a detail, border, count or fill gauge looks for; may be repeated")
      ->expected(1)
      ->multi_option_policy(CLI::MultiOptionPolicy::TakeAll);
  option(where_group, "--anchor", o->anchor,
         "what it follows: a target file or the name of a target, the name of a gauge; picture or world to "
         "stay there");
  option(where_group, "--follows", o->follows,
         "components that it follows: some of x,y,angle,scale, or nothing; default x,y,angle");
  option(where_group, "--reference", o->reference, "picture that shapes are drawn on; for a new gauge file");
  option(where_group, "--mapping", o->mapping, "mapping file; readings and limits are then in millimetres");
  c->add_flag("--inside", o->inside, "measures what is inside when the shape reaches out of the picture")
      ->group(where_group);
  option(limits_group, "--min", o->min, "lower limit");
  option(limits_group, "--max", o->max, "upper limit");
  option(limits_group, "--nominal", o->nominal,
         "nominal value, or the word present: what the reference part reads");
  option(limits_group, "--tolerance", o->tolerance, "limits lie so far on both sides of the nominal value");
  o->settings.add_to(*c);
  c->add_flag("--replace", o->replace, "replaces a gauge of the same name")->group(output_group);
  c->footer(
      "Example: heron gauge add gauges.toml --reference tray/tray-01.png --anchor leaf.png --name stem "
      "--kind edge "
      "--band 640,512,60,12,0\n`heron gauge add --kind KIND --help` shows the settings of a kind.");
  c->callback([o, &action] { action = [o] { return add(*o); }; });
}

}  // namespace heron::tool
