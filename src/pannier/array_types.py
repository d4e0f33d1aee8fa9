"""NumPy's arrays by what they hold."""

from __future__ import annotations

from typing import Any

import numpy as np

Array = np.ndarray[Any, Any]
Flags = np.ndarray[Any, np.dtype[np.bool_]]
Numbers = np.ndarray[Any, np.dtype[np.int64]]
