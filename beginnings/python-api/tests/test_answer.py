import unittest

from notes.answer import answer


class Answers(unittest.TestCase):
    def test_a_note_is_kept_and_listed(self):
        notes = []
        self.assertEqual(answer("POST", "/notes", {"text": " hello "}, notes), (201, {"text": "hello"}))
        self.assertEqual(answer("GET", "/notes", None, notes), (200, [{"text": "hello"}]))

    def test_what_is_no_note_is_refused(self):
        for body in [None, {}, {"text": ""}, {"text": 1}, {"text": "x" * 501}, []]:
            self.assertEqual(answer("POST", "/notes", body, [])[0], 422)

    def test_other_paths_and_methods_are_refused(self):
        self.assertEqual(answer("GET", "/other", None, [])[0], 404)
        self.assertEqual(answer("DELETE", "/notes", None, [])[0], 405)


if __name__ == "__main__":
    unittest.main()
