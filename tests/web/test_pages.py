"""What assistive technology reads of every page: one level-one heading, words in each head, names as shown."""

import re
from html import unescape

from tests.support import comb, stl
from tests.web.test_app import AppCase


def plain(html):
    return " ".join(unescape(re.sub(r"<svg.*?</svg>|<[^>]*>", " ", html, flags=re.S)).split())


class HeadingsTest(AppCase):
    def pages(self):
        job_id = self.job(stl(comb()), "comb.stl")
        self.change(job_id, "keep-preset", name="Of the test")
        self.change(job_id, "supports", gap_mm="0.2", style="tree")
        self.change(job_id, "keep-variant", open=6, name="A")
        self.settle(job_id)
        self.client.post(f"/api/jobs/{job_id}/items", params={"name": "more.stl"}, content=stl(comb()))
        for address in ("/", "/machines", *(f"/jobs/{job_id}?open={n}" for n in range(10))):
            yield address, self.client.get(address).text
        yield "traveller", self.client.get(f"/jobs/{job_id}/traveller").text
        yield "an error", self.client.get("/jobs/none", headers={"accept": "text/html"}).text

    def test_headings_heads_and_names(self):
        for address, html in self.pages():
            with self.subTest(address):
                self.assertEqual(len(re.findall(r"<h1[ >]", html)), 1)
                heads = re.findall(r"<th\b[^>]*>(.*?)</th>", html, flags=re.S)
                named = [h for h in heads if plain(h) or "aria-label=" in h]
                self.assertEqual(len(named), len(heads), heads)
                for attributes, inner in re.findall(r"<button\b([^>]*)>(.*?)</button>", html, flags=re.S):
                    label = re.search(r'aria-label="([^"]*)"', attributes)
                    shown = plain(re.sub(r'<span class="visually-hidden">.*?</span>', "", inner))
                    self.assertTrue(label or shown, attributes)
                    if label and re.search(r"[A-Za-z]{2}", shown):
                        # Whoever speaks what they read has to be understood.
                        self.assertIn(shown.lower(), unescape(label[1]).lower())
