"""Kernels give the same without being compiled, where a wrong index is an error and not another number."""

import json
import os
import subprocess
import sys
import unittest
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parents[2]


class UncompiledTest(unittest.TestCase):
    def results(self, compiled):
        done = subprocess.run(
            [sys.executable, "-W", "ignore", "-m", "tests.core.uncompiled"],
            cwd=ROOT, capture_output=True, text=True, check=False,
            env={**os.environ, "NUMBA_DISABLE_JIT": str(int(not compiled))},
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr[-2000:])
        return json.loads(done.stdout)

    def test_tiny_parts_come_out_the_same(self):
        compiled, plain = self.results(True), self.results(False)
        self.assertEqual(compiled.keys(), plain.keys())
        for name, figures in compiled.items():
            with self.subTest(name):
                self.assertGreater(len(figures), 0)
                self.assertEqual(len(figures), len(plain[name]))
                np.testing.assert_allclose(plain[name], figures, rtol=1e-6, atol=1e-6)


if __name__ == "__main__":
    unittest.main()
