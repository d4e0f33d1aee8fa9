"""The resize kernel against OpenCV's area resize with a value table: time and likeness to Pillow's antialiased bilinear."""

from __future__ import annotations

import math

import cv2
import numpy as np
from PIL import Image

import pannier
from bench.data import photograph
from bench.slices import Report, alternate, ratio
from pannier.images.prepare import Preparation

SIDE = 224


def run(report: Report) -> None:
    report.title(f"Own resize to float planes, 500 x 375 to {SIDE} x {SIDE}, one thread")
    cv2.setNumThreads(1)
    pictures = [photograph(seed) for seed in range(40)]
    treatment = pannier.Treatment(SIDE, values="standard", mean=[0.48, 0.46, 0.41], std=[0.23, 0.22, 0.225])
    preparation = Preparation(treatment)
    scale, offset = treatment.value_line()
    table = np.arange(256, dtype=np.float32) * scale[:, None] + offset[:, None]
    out, small = np.empty((3, SIDE, SIDE), np.float32), np.empty((SIDE, SIDE, 3), np.uint8)

    def own() -> None:
        for picture in pictures:
            preparation.pixels_into(picture, out)

    def opencv(how: int) -> None:
        for picture in pictures:
            cv2.resize(picture[:, 62:437], (SIDE, SIDE), dst=small, interpolation=how)
            for channel, plane in enumerate(cv2.split(small)):
                cv2.LUT(plane, table[channel].reshape(1, 256), dst=out[channel])

    times = alternate({"own": own, "area": lambda: opencv(cv2.INTER_AREA), "plain": lambda: opencv(cv2.INTER_LINEAR)}, 30)
    against_area = ratio(times["own"], times["area"])
    report.line("time against OpenCV area + table", against_area, "<= 0.28", against_area.median <= 0.28)
    report.line("time against OpenCV plain bilinear + table", ratio(times["own"], times["plain"]))
    report.line("microseconds a picture, median", round(float(np.median(times["own"])) / len(pictures) * 1e6))
    raw = Preparation(pannier.Treatment(SIDE, values="raw"))
    likeness = []
    for picture in pictures:
        raw.pixels_into(picture, out)
        box = (62.5, 0, 437.5, 375)
        expected = np.asarray(Image.fromarray(picture).resize((SIDE, SIDE), Image.Resampling.BILINEAR, box=box), float)
        likeness.append(10 * math.log10(255**2 / np.mean((out.transpose(1, 2, 0) - expected) ** 2)))
    found = float(np.median(likeness))
    report.line("likeness to Pillow's antialiased bilinear, median", f"{found:.1f} dB", ">= 54 dB", found >= 54)
