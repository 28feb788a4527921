"""What moves give and what they cost over a stretch: each figure with its unit and a sentence.

found = judged(before, after, ("drum", "tuba"), (40.0, 105.0), hits_s, rate)
found.fight.zone.clear_won_db        # 1.9
found.fight.cost_share               # 0.047
found.told()                         # [Told("clear by", "+4.5 → +6.4 dB", "Drum stands ..."), ...]
"""
