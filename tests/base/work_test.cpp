#include "heron/base/work.hpp"

#include <doctest/doctest.h>

#include <thread>
#include <vector>

using namespace heron;

TEST_CASE("work counts what is planned and done from any number of threads, and stops once") {
  Work work;
  CHECK_FALSE(work.stopped());
  CHECK(work.planned() == 0);
  work.plan(4000);
  std::vector<std::thread> threads;
  for (int t = 0; t < 4; ++t)
    threads.emplace_back([&] {
      for (int i = 0; i < 1000; ++i) work.advance();
    });
  for (std::thread& t : threads) t.join();
  CHECK(work.done() == 4000);
  CHECK(work.done() == work.planned());
  work.plan(10);
  work.advance(3);
  CHECK(work.planned() == 4010);
  CHECK(work.done() == 4003);
  std::thread([&] { work.stop(); }).join();
  CHECK(work.stopped());
}
