"""The log in the data folder: what it holds, and what it never tells."""

import logging

from dachi.store import practitioners
from dachi.web.logs import FILE, Discreet, keep_log
from tests.support import CLOCK, Pages


class Logs(Pages):
    def setUp(self) -> None:
        super().setUp()
        root = logging.getLogger()
        before, level = list(root.handlers), root.level
        self.handler = keep_log(self.folder, CLOCK)

        def put_back() -> None:
            for handler in [h for h in root.handlers if h not in before]:
                root.removeHandler(handler)
                handler.close()
            root.setLevel(level)

        self.addCleanup(put_back)
        for handler in root.handlers:
            if handler is not self.handler and handler not in before:
                handler.setLevel(logging.CRITICAL + 1)

    def said(self) -> str:
        return (self.folder / FILE).read_text("utf-8")

    def test_an_error_page_has_its_details_in_the_log(self) -> None:
        self.sign_in()
        self.app.config["PROPAGATE_EXCEPTIONS"] = False
        self.app.testing = False
        self.app.view_functions["today.page"] = lambda: 1 / 0
        answer = self.client.get("/")
        self.assertEqual(answer.status_code, 500)
        self.assertIn("The log has the details", self.text(answer))
        self.assertIn("ZeroDivisionError", self.said())
        self.assertIn("while answering /", self.said())

    def test_tokens_names_and_addresses_are_left_out(self) -> None:
        practitioners.update(self.db, self.coach.id, self.pid, email="runa@quay.example")
        for told, kept, gone in (
            ("while answering /me/Im5vbmNl.abcDEF/play/0", "/play/0", "Im5vbmNl"),
            ("while answering /c/Im5vbmNl.abcDEF-g_h/photo", "/photo", "abcDEF"),
            ("nonce Q0JzX1hYWVpaQUJDREVGR0hJSg lost", "lost", "Q0JzX1hY"),
            ("there is no 'Runa' here", "there is no", "Runa"),
            ("mail to runa@quay.example failed", "failed", "runa@"),
            ("coach Wenna is not found", "is not found", "Wenna"),
        ):
            with self.subTest(told):
                logging.getLogger("dachi").error(told)
                line = self.said().splitlines()[-1]
                self.assertIn(kept, line)
                self.assertNotIn(gone, line)

    def test_a_name_inside_another_word_stays(self) -> None:
        logging.getLogger("dachi").error("the Runabout is late")
        self.assertIn("Runabout", self.said())

    def test_where_nobody_can_say_whose_names_everything_quoted_goes(self) -> None:
        def lost() -> list[str]:
            raise OSError("no database")

        record = logging.LogRecord("x", logging.ERROR, "", 1, "there is no 'Runa' here", None, None)
        self.assertIn("there is no [left out] here", Discreet(lost).format(record))
