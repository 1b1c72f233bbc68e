#include <doctest/doctest.h>

#include <nlohmann/json.hpp>

#include "heron/files/atomic_file.hpp"
#include "heron/link/line_socket.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using Json = nlohmann::json;
using support::contains;
using support::run;
using support::TemporaryFolder;

namespace {

const std::string cart_tool = HERON_TOOL;

std::string free_address() { return heron::LineListener({"127.0.0.1", 0}).address().text(); }

/// The station's file with other addresses.
void readdress(const std::string& path, const std::string& from, const std::string& to) {
  std::string text = heron::read_file(path);
  const size_t at = text.find(from);
  REQUIRE(at != std::string::npos);
  heron::write_file(path, text.replace(at, from.size(), to));
}

}  // namespace

TEST_CASE("the cart's demo docks, and so does the cart with each machine in a process of its own" *
          doctest::skip(sanitized)) {
  TemporaryFolder folder;
  const auto demo = run(cart_tool + " demo cart --seed 2 --output c", folder.path());
  CHECK(demo.status == 0);
  CHECK(contains(demo.out, "): reached"));
  for (const char* name : {"cart-way.png", "cart-bend.png", "cart-stop.png", "cart-docked.png"})
    CHECK(std::filesystem::exists(folder / ("c/" + std::string(name))));

  // The files that the demo left, with ports that are free here.
  const std::string floor = free_address(), door = free_address(), pictures = free_address();
  for (const char* name : {"floor", "door"}) {
    const std::string path = folder / ("c/" + std::string(name) + ".toml");
    readdress(path, "127.0.0.1:5023", pictures);
    readdress(path, name == std::string("floor") ? "127.0.0.1:5021" : "127.0.0.1:5022",
              name == std::string("floor") ? floor : door);
  }
  const auto trip =
      run("(sleep 0.5; " + cart_tool + " run c/floor.toml >floor.txt 2>&1) & (sleep 0.5; " + cart_tool +
              " run c/door.toml >door.txt 2>&1) & " + cart_tool + " simulate cart --seed 3 --floor " + floor +
              " --door " + door + " --pictures " + pictures + " --json",
          folder.path());
  CHECK(trip.status == 0);
  const Json end = Json::parse(trip.out);
  CHECK(end["end"] == "docked");
  CHECK(std::abs(end["beside_mm"].get<double>()) < 1);
  CHECK(std::abs(end["heading"].get<double>()) < 0.5);
  CHECK(end["reached"] == true);
}

TEST_CASE("a cart that is called wrongly says what is allowed") {
  TemporaryFolder folder;
  const auto error = [&](const std::string& options) {
    const auto ran = run(cart_tool + " simulate cart " + options, folder.path());
    CHECK(ran.status == 2);
    return ran.err;
  };
  CHECK(contains(error("--slip 3"), "from 0 to 0.5"));
  CHECK(contains(error("--latency -1"), "from 0 to 5"));
  CHECK(contains(error("--floor nowhere"), "host:port"));
  CHECK(run(cart_tool + " demo cart extra", folder.path()).status == 2);
}
