"""Pairs at the least cost are those that SciPy's solver finds, also among equals."""

import sys
from subprocess import run

import numpy as np
import pytest
from scipy.optimize import linear_sum_assignment

from cloudrift.theory.pairing import paired


@pytest.mark.parametrize("most", [2, 4, 40])
def test_pairs_are_those_of_the_library(rng, most):
    for _ in range(300):
        costs = rng.integers(0, most, rng.integers(1, 10, 2)) * 0.7
        rows, columns = linear_sum_assignment(costs)
        assert paired(costs.tolist()) == list(zip(rows.tolist(), columns.tolist(), strict=True))


def test_where_all_cost_the_same_each_gets_its_own():
    assert paired(np.ones((5, 5)).tolist()) == [(i, i) for i in range(5)]
    assert paired([[3.0, 1.0], [1.0, 3.0], [0.5, 9.0]]) == [(0, 1), (2, 0)]
    assert paired([]) == []


def test_the_program_starts_without_the_library_s_solver():
    code = "import sys, cloudrift.desktop.frame.app; sys.exit('scipy.optimize' in sys.modules)"
    assert run([sys.executable, "-c", code], check=False).returncode == 0
