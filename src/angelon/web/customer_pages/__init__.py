"""The page where the shop designs the pages that its customers see."""
