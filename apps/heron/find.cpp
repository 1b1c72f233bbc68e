#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <condition_variable>
#include <mutex>
#include <nlohmann/json.hpp>
#include <thread>

#include "commands.hpp"
#include "find_arguments.hpp"
#include "gauge.hpp"
#include "help.hpp"
#include "heron/base/work.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/gauge_file.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/recording.hpp"
#include "heron/files/report_json.hpp"
#include "heron/files/target_file.hpp"
#include "heron/gauge/measure.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/reader/reader.hpp"
#include "kind_options.hpp"
#include "log.hpp"
#include "options.hpp"
#include "steps.hpp"

namespace heron::tool {
namespace {

struct FindCommand {
  std::string target, mapping, drawing, region, region_mm, gauges;
  std::vector<std::string> pictures, without;
  FindArguments options;
  KindOptions kind;
  std::optional<double> height, budget_ms;
  bool json = false, quick = false, from_region = false;
};

/// Stops a piece of work when its time is over, unless it is done before. Time that is over before the watch
/// has begun stops the work at once: a busy machine may wake the watching thread late.
class Deadline {
 public:
  Deadline(Work& work, std::optional<double> milliseconds) {
    if (!milliseconds) return;
    using clock = std::chrono::steady_clock;
    const auto end = clock::now() + std::chrono::duration<double, std::milli>(std::min(*milliseconds, 1e12));
    thread_ = std::thread([this, &work, end] {
      std::unique_lock lock(mutex_);
      if (!done_when_.wait_until(lock, end, [this] { return done_; })) work.stop();
    });
    if (clock::now() >= end) work.stop();
  }
  ~Deadline() {
    if (!thread_.joinable()) return;
    {
      const std::lock_guard lock(mutex_);
      done_ = true;
    }
    done_when_.notify_one();
    thread_.join();
  }
  Deadline(const Deadline&) = delete;
  Deadline& operator=(const Deadline&) = delete;

 private:
  std::mutex mutex_;
  std::condition_variable done_when_;
  bool done_ = false;
  std::thread thread_;
};

/// A rectangle of the world, in the user's axes, as the picture shows it.
Region region_in_world(const std::string& text, const MappingRecord& mapping, double height_mm) {
  const auto v = parse_numbers(text, 4, "--region-mm", "X,Y,WIDTH,HEIGHT in millimetres of the world");
  if (!(v[2] > 0 && v[3] > 0)) fail_argument("find: --region-mm needs a width and a height above 0");
  std::vector<Point2> corners;
  constexpr int parts = 8;  // of a side: a lens bends it
  const auto add = [&](UserPoint from, UserPoint to) {
    for (int i = 0; i < parts; ++i) {
      const UserPoint p = from + (to - from) * (static_cast<double>(i) / parts);
      const WorldPoint world = mapping.axes ? mapping.axes->world_from_user(p) : WorldPoint(p.plain());
      corners.push_back(mapping.mapping.pixel_from_world(world, height_mm));
    }
  };
  const UserPoint a{v[0], v[1]}, b{v[0] + v[2], v[1]}, c{v[0] + v[2], v[1] + v[3]}, d{v[0], v[1] + v[3]};
  add(a, b), add(b, c), add(c, d), add(d, a);
  return Region::polygon(corners);
}

FindOptions options_from(const FindCommand& o, FindOptions options, const MappingRecord* mapping,
                         double height_mm) {
  options = o.options.applied_to(options);
  if (!o.region.empty() && !o.region_mm.empty())
    fail_argument("find: --region and --region-mm exclude each other");
  if (!o.region.empty()) options.region = parse_region(o.region, "--region");
  if (!o.region_mm.empty()) {
    if (!mapping) fail_argument("find: --region-mm needs --mapping");
    options.region = region_in_world(o.region_mm, *mapping, height_mm);
  }
  if (o.from_region && (options.region.empty() || !mapping))
    fail_argument("find: --from-region counts from the middle of the search region; give that and --mapping");
  for (const std::string& text : o.without) {
    if (options.region.empty()) fail_argument("find: --without cuts parts out of --region; give that too");
    options.region.subtract(parse_region(text, "--without"));
  }
  return options;
}

/// Finds the target in one picture. `report.elapsed_ms` is that of the search alone.
Report report_on(const std::string& path, const Target& target, const PreparedPicture& prepared,
                 const FindOptions& options, const MappingRecord* mapping, const FindCommand& o) {
  if (mapping) require_size_of(*mapping, prepared, path);
  const auto begun = std::chrono::steady_clock::now();
  PartGeometry geometry = target.geometry();
  if (o.height) geometry.height_mm = *o.height;
  Report report;
  Work work;
  const Deadline deadline(work, o.budget_ms);
  const Explain explain = o.quick ? Explain::never : Explain::always;
  FindResult find_result = find(target, prepared, options, explain, &work);
  report.complete = find_result.complete;
  add_result(report, std::move(find_result),
             mapping ? Frames{&mapping->mapping, mapping->axes ? &*mapping->axes : nullptr} : Frames{},
             geometry);
  report.picture = path;
  report.elapsed_ms = milliseconds_since(begun);
  return report;
}

/// The gauges, which must follow this target alone: others are not searched for.
GaugeSet gauges_for(const Target& target, const std::string& file) {
  GaugeSet set = load_gauges(file);
  for (const Gauge& g : set.gauges)
    if (set.target(g.anchor) && g.anchor != target.name())
      fail_argument(fmt::format(
          "find: gauge '{}' of {} follows '{}', and '{}' is searched for; `heron gauge measure {}` "
          "finds every target that gauges follow",
          g.name, file, g.anchor, target.name(), file));
  return set;
}

int find_in_all(FindCommand o) {
  o.pictures = with_folders(o.pictures);
  std::vector<std::string> read = o.pictures;
  read.push_back(o.target), read.push_back(o.mapping), read.push_back(o.gauges);
  require_not_read({o.drawing}, read);
  const LoadedTarget loaded = load_target(o.target);
  if (loaded.edited && !loaded.settings_lost && !loaded.resized)
    log_note("find: note: {} was edited since it was taught; its edges follow the edit", o.target);
  if (loaded.settings_lost)
    log_note("find: note: {} has lost its settings; the defaults serve, the origin is its centre", o.target);
  if (loaded.resized)
    log_note("find: note: {} was resized since it was taught; its origin is stretched with it", o.target);
  if (o.budget_ms && !(*o.budget_ms > 0)) fail_argument("find: --budget must be above 0 milliseconds");
  const auto changed = o.kind.given(loaded.target.info().id);
  const Target target = changed.empty() ? loaded.target : loaded.target.with(changed);
  std::optional<MappingRecord> mapping;
  if (!o.mapping.empty()) mapping = load_mapping(o.mapping);
  std::optional<GaugeSet> gauges;
  if (!o.gauges.empty()) gauges = gauges_for(target, o.gauges);
  const double height_mm = o.height.value_or(target.geometry().height_mm);
  const FindOptions options = options_from(o, target.options(), mapping ? &*mapping : nullptr, height_mm);
  if (o.from_region) {  // zero is where the search region is, with the axes as they are
    Axes axes = mapping->axes.value_or(Axes{});
    axes.zero_mm = mapping->mapping.world_from_pixel(options.region.bounds().centre(), height_mm);
    mapping->axes = axes;
  }
  bool failed = false, nothing = false;
  for (size_t i = 0; i < o.pictures.size(); ++i) {
    try {
      Picture picture = load_picture(o.pictures[i]);
      picture.name = o.pictures[i];
      const auto begun = std::chrono::steady_clock::now();
      const PreparedPicture prepared = gauges ? prepare(picture, *gauges) : prepare(picture, target);
      const double prepared_ms = milliseconds_since(begun);
      Report report = report_on(o.pictures[i], target, prepared, options, mapping ? &*mapping : nullptr, o);
      log_detail("find: {}: prepared in {:.1f} ms, searched in {:.1f} ms", o.pictures[i], prepared_ms,
                 report.elapsed_ms);
      report.elapsed_ms += prepared_ms;
      if (gauges) {
        measure(report, *gauges, prepared, frames_of(mapping), {.heights = height_map_of(picture)});
        read_crops(report, *gauges);
      }
      nothing = nothing || report.parts.empty() || status_of(report) != 0;
      if (o.json)
        fmt::print("{}\n", report_json(report));
      else
        print_report(report);
      if (!o.drawing.empty()) {
        const Box region = options.region.bounds();
        save_picture(numbered(o.drawing, i, o.pictures.size()),
                     draw_over(prepared, report, options.region.empty() ? nullptr : &region));
      }
    } catch (const Error& error) {
      if (error.code() != ErrorCode::bad_file) throw;
      // One bad picture does not take the others' answers away.
      failed = true;
      log_error("{}", error.what());
      if (o.json)
        fmt::print("{}\n", nlohmann::ordered_json{{"picture", o.pictures[i]}, {"error", error.what()}}.dump(
                               -1, ' ', false, nlohmann::ordered_json::error_handler_t::replace));
    }
    std::fflush(stdout);
  }
  return failed ? 2 : nothing ? 1 : 0;
}

}  // namespace

void add_find(CLI::App& app, Action& action) {
  auto o = std::make_shared<FindCommand>();
  CLI::App* c = app.add_subcommand("find", "Finds a taught part in pictures and explains what it rejects");
  const auto add = [&](const char* group, const char* name, auto& value, const char* help) {
    return c->add_option(name, value, help)->group(group);
  };
  c->add_option("target", o->target, "target file")->required();
  c->add_option("pictures", o->pictures, "pictures, or folders of pictures")->required();
  add(where_group, "--region", o->region,
      "search region for the part's origin: X,Y,WIDTH,HEIGHT or a shape as in teach");
  add(where_group, "--region-mm", o->region_mm,
      "search region in world millimetres, X,Y,WIDTH,HEIGHT; needs --mapping");
  add(where_group, "--without", o->without, "cuts a shape out of --region; may be repeated")
      ->expected(1)
      ->multi_option_policy(CLI::MultiOptionPolicy::TakeAll);
  add(where_group, "--mapping", o->mapping, "mapping file; adds world positions");
  add(where_group, "--height", o->height,
      "height of the part above the mapping's plane, millimetres; default: the target's own");
  c->add_flag("--from-region", o->from_region, "counts world positions from the centre of the search region")
      ->group(where_group);
  o->options.add_to(*c);
  c->add_flag("--quick", o->quick, "skips the search for parts beyond the limits")->group(limits_group);
  add(output_group, "--gauges", o->gauges, "gauge file; measures and judges the parts found");
  add(limits_group, "--budget", o->budget_ms, "time limit for each picture, milliseconds");
  o->kind.add_to(*c);
  add(output_group, "--picture", o->drawing,
      "draws the result; several pictures get the names FILE-01, FILE-02, ...");
  c->add_flag("--json", o->json, "prints one JSON object for each picture")->group(output_group);
  c->footer(
      "`heron find TARGET.png --help` shows the settings of that target.\nExample: heron find leaf.png "
      "tray/tray-01.png --mapping mapping.toml --picture found.png\nLimits that are not given are those kept "
      "in the "
      "target. Exit status 1 when a picture holds no part, or its gauges are not all good.");
  c->callback([o, &action] { action = [o] { return find_in_all(*o); }; });
}

}  // namespace heron::tool
