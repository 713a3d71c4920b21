"""The check of the house on small houses of its own: each fault is found, and a good house passes."""
import tempfile
import unittest
from pathlib import Path

import house


class House(unittest.TestCase):
    def setUp(self):
        self.folder = tempfile.TemporaryDirectory()
        self.addCleanup(self.folder.cleanup)
        self.root = Path(self.folder.name)

    def write(self, path, text):
        path = self.root / "crates" / path
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)

    def faults(self):
        return house.check(self.root)

    def test_a_house_that_looks_down_stands(self):
        self.write("web/src/lib.rs", "mod chapters;\nmod page;\nmod site;\n")
        self.write("web/src/chapters/mod.rs", "pub mod today;\npub mod zones;\n")
        self.write("web/src/chapters/today.rs", "use crate::page::frame::Frame;\nuse crate::site::Facts;\n")
        self.write("web/src/chapters/zones.rs", "use crate::{page::frame::Frame, site::Facts};\n")
        self.write("web/src/page/mod.rs", "pub mod frame;\n")
        self.write("web/src/page/frame.rs", "use crate::site::Facts;\npub struct Frame(Facts);\n")
        self.write("web/src/site/mod.rs", "pub struct Facts;\n")
        self.assertEqual(self.faults(), [])

    def test_a_chapter_that_knows_another_is_told(self):
        self.write("web/src/chapters/mod.rs", "mod today;\nmod zones;\n")
        self.write("web/src/chapters/today.rs", "pub fn night() {}\n")
        self.write("web/src/chapters/zones.rs", "use crate::chapters::today::night;\n")
        self.assertEqual(self.faults(), ["web: chapters/zones knows chapters/today"])
        self.write("web/src/chapters/zones.rs", "pub fn f() { crate::chapters::today::night(); }\n")
        self.assertEqual(self.faults(), ["web: chapters/zones knows chapters/today"], "named in full, too")

    def test_a_server_that_knows_a_chapter_is_told(self):
        self.write("web/src/chapters/mod.rs", "pub struct Call;\n")
        self.write("web/src/server/state.rs", "use crate::chapters::Call;\n")
        self.assertEqual(self.faults(), ["web: server/state looks up to chapters"])

    def test_a_circle_of_files_is_told_through_names_that_are_passed_on(self):
        self.write("bench/src/lib.rs", "mod a;\nmod b;\npub use a::One;\n")
        self.write("bench/src/a.rs", "use crate::b::Two;\npub struct One(Two);\n")
        self.write("bench/src/b.rs", "use crate::One;\npub struct Two;\n")
        self.assertEqual(self.faults(), ["bench: a circle of files: a, b"])

    def test_a_folder_and_what_it_holds_are_no_circle_and_tests_may_look_anywhere(self):
        self.write("bench/src/lib.rs", "mod a;\nuse a::One;\npub struct Two(One);\n")
        self.write("bench/src/a.rs", "use super::Two;\npub struct One;\n#[cfg(test)]\nmod tests {\n    use crate::b::X;\n}\n")
        self.write("bench/src/b.rs", "use crate::a::One;\npub struct X(One);\n")
        self.assertEqual(self.faults(), [])

    def test_rooms_of_core_look_down_and_advice_stays_apart(self):
        self.write("core/src/weather/mod.rs", "use crate::site::Site;\n")
        self.write("core/src/site/mod.rs", "pub struct Site;\n")
        self.write("core/src/ground/mod.rs", "use crate::weather::Day;\n")
        self.write("core/src/advice/planner.rs", "use crate::advice::findings::Finding;\n")
        self.write("core/src/advice/findings.rs", "pub struct Finding;\n")
        self.write("core/src/loose.rs", "")
        self.assertEqual(
            self.faults(),
            ["core: advice/planner knows advice/findings", "core: ground looks up to weather",
             "core: weather looks up to site", "core: loose stands in no room"],
        )

    def test_long_files_and_functions_and_wide_templates_are_told(self):
        long = "".join(f"    let _{i} = {i};\n" for i in range(60))
        self.write("bench/src/lib.rs", f"fn long() {{\n{long}}}\n")
        self.assertEqual(self.faults(), ["crates/bench/src/lib.rs:1: long has 62 lines without a reason"])
        self.write("bench/src/lib.rs", f"// Long: a table.\n#[must_use]\nfn long() {{\n{long}}}\n")
        self.assertEqual(self.faults(), [])
        self.write("bench/src/lib.rs", "\n" * 601)
        self.assertEqual(self.faults(), ["crates/bench/src/lib.rs: 601 lines; a file has at most 600"])
        self.write("bench/src/lib.rs", "")
        self.write("bench/src/page.html", f"<p>{'x' * 140}</p>\n<ul><li>a</li></ul>\n")
        self.assertEqual(
            self.faults(),
            ["crates/bench/src/page.html:1: 147 columns; a line has at most 140",
             "crates/bench/src/page.html:2: more than one element begins here"],
        )
        self.write("bench/src/page.html", "")
        self.write("bench/src/drawn.svg", f"<svg>\n<g><rect/></g>\n<text>{'x' * 140}</text>\n</svg>\n")
        self.assertEqual(
            self.faults(),
            ["crates/bench/src/drawn.svg:2: more than one element begins here",
             "crates/bench/src/drawn.svg:3: 153 columns; a line has at most 140"],
        )

    def test_a_tuple_that_a_parameter_takes_apart_is_told(self):
        self.write("core/src/lib.rs", "fn plain(a: (u8, u8)) {}\nfn apart(x: u8, (a, b): (u8, u8)) {}\n")
        self.assertEqual(self.faults(), ["crates/core/src/lib.rs:2: apart takes a tuple apart; name its parts"])

    def test_a_path_that_the_page_names_must_be_there(self):
        self.write("core/src/weather/fill.rs", "")
        page = "| fill | `core/weather/fill.rs` |\n| gone | `core/weather/gone.rs`, `Word`, `core/weather/`: `fill.rs`, `lost.rs` |\n"
        (self.root / "ARCHITECTURE.md").write_text(page)
        self.assertEqual(
            [fault for fault in self.faults() if fault.startswith("ARCHITECTURE")],
            ["ARCHITECTURE.md: core/weather/gone.rs is not there", "ARCHITECTURE.md: lost.rs is not there"],
        )

    def test_a_dependency_that_nothing_uses_is_told(self):
        self.write("core/src/lib.rs", "use serde_json::Value;\n")
        (self.root / "crates/core/Cargo.toml").write_text('[dependencies]\nserde-json = "1"\nhex = "0"\n')
        (self.root / "Cargo.toml").write_text('[workspace.dependencies]\nserde-json = "1"\nhex = "0"\nrand = "0"\n')
        self.assertEqual(self.faults(), ["crates/core/Cargo.toml: nothing uses hex", "Cargo.toml: no crate uses rand"])

    def test_a_claim_without_its_test_is_told(self):
        self.write("core/src/lib.rs", "#[test]\nfn it_is_sealed() {}\n")
        (self.root / "docs").mkdir()
        rows = ["held | met | how | `it_is_sealed` |", "bare | met | how |  |", "gone | met | how | `it_was_sealed` |", "why | met | how | no test: so |"]
        (self.root / "docs" / "asvs.md").write_text("".join(f"| {row}\n" for row in rows))
        self.assertEqual(
            [fault for fault in self.faults() if "asvs" in fault],
            ["docs/asvs.md:2: no test holds this, and no reason is given", "docs/asvs.md:3: there is no test it_was_sealed"],
        )


if __name__ == "__main__":
    unittest.main()
