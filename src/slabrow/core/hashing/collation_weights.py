"""Weights of characters in MariaDB's older collations, as the server's WEIGHT_STRING() gives them (10.11).

A run `61*26+41` says: 26 characters from U+0061 on weigh what those from U+0041 on do. With `=` all of them weigh the
same, and with `/2` it is every second character. Characters that stand in no run weigh their own number.
"""

import re
from functools import cache

_GENERAL_CI = """
61*26+41 b5=39c c0*6=41 c7=43 c8*4=45 cc*4=49 d1*2+4e d3*4=4f d9*4=55 dd=59 df=53 e0*6=41 e6=c6 e7=43 e8*4=45
ec*4=49 f0=d0 f1*2+4e f3*4=4f f8=d8 f9*4=55 fd=59 fe=de ff=59 100*6=41 106*8=43 10e*2=44 111=110 112*10=45 11c*8=47
124*2=48 127=126 128*10=49 133=132 134*2=4a 136*2=4b 139*6=4c 140*2/2+13f 143*6=4e 14b=14a 14c*6=4f 153=152 154*6=52
15a*8=53 162*4=54 167=166 168*12=55 174*2=57 176*3=59 179*6=5a 17f=53 183*2/2+182 188=187 18c=18b 192=191 195=1f6
199=198 1a0*2=4f 1a3*2/2+1a2 1a8=1a7 1ad=1ac 1af*2=55 1b4*2/2+1b3 1b9=1b8 1bd=1bc 1bf=1f7 1c5*2=1c4 1c8*2=1c7
1cb*2=1ca 1cd*2=41 1cf*2=49 1d1*2=4f 1d3*10=55 1dd=18e 1de*4=41 1e2*2=c6 1e5=1e4 1e6*2=47 1e8*2=4b 1ea*4=4f
1ee*2=1b7 1f0=4a 1f2*2=1f1 1f4*2=47 1f8*2=4e 1fa*2=41 1fc*2=c6 1fe*2=d8 200*4=41 204*4=45 208*4=49 20c*4=4f 210*4=52
214*4=55 218*2=53 21a*2=54 21d=21c 21e*2=48 223*2/2+222 226*2=41 228*2=45 22a*8=4f 232*2=59 253=181 254=186
256*2+189 259=18f 25b=190 260=193 263=194 268=197 269=196 26f=19c 272=19d 275=19f 280=1a6 283=1a9 288=1ae 28a*2+1b1
292=1b7 345=399 386=391 388=395 389=397 38a=399 38c=39f 38e=3a5 38f=3a9 390=399 3aa=399 3ab=3a5 3ac=391 3ad=395
3ae=397 3af=399 3b0=3a5 3b1*17+391 3c2*2=3a3 3c4*6+3a4 3ca=399 3cb=3a5 3cc=39f 3cd=3a5 3ce=3a9 3d0=392 3d1=398
3d3*2=3d2 3d5=3a6 3d6=3a0 3db*11/2+3da 3f0=39a 3f1=3a1 3f2=3a3 400*2=415 403=413 407=406 40c=41a 40d=418 40e=423
430*32+410 450*2=415 452=402 453=413 454*3+404 457=406 458*4+408 45c=41a 45d=418 45e=423 45f=40f 461*11/2+460
476*2=474 479*5/2+478 48d*26/2+48c 4c1*2=416 4c4=4c3 4c8=4c7 4cc=4cb 4d0*4=410 4d5=4d4 4d6*2=415 4d9*3=4d8 4dc*2=416
4de*2=417 4e1=4e0 4e2*4=418 4e6*2=41e 4e9*3=4e8 4ec*2=42d 4ee*6=423 4f4*2=427 4f8*2=42b 561*38+531 1e00*2=41
1e02*6=42 1e08*2=43 1e0a*10=44 1e14*10=45 1e1e*2=46 1e20*2=47 1e22*10=48 1e2c*4=49 1e30*6=4b 1e36*8=4c 1e3e*6=4d
1e44*8=4e 1e4c*8=4f 1e54*4=50 1e58*8=52 1e60*10=53 1e6a*8=54 1e72*10=55 1e7c*4=56 1e80*10=57 1e8a*4=58 1e8e*2=59
1e90*6=5a 1e96=48 1e97=54 1e98=57 1e99=59 1e9b=53 1ea0*24=41 1eb8*16=45 1ec8*4=49 1ecc*24=4f 1ee4*14=55 1ef2*8=59
1f00*16=391 1f10*6=395 1f18*6=395 1f20*16=397 1f30*16=399 1f40*6=39f 1f48*6=39f 1f50*8=3a5 1f59*4/2=3a5 1f60*16=3a9
1f70=391 1f71=1fbb 1f72=395 1f73=1fc9 1f74=397 1f75=1fcb 1f76=399 1f77=1fdb 1f78=39f 1f79=1ff9 1f7a=3a5 1f7b=1feb
1f7c=3a9 1f7d=1ffb 1f80*16=391 1f90*16=397 1fa0*16=3a9 1fb0*5=391 1fb6*5=391 1fbc=391 1fbe=399 1fc2*3=397 1fc6*2=397
1fc8*2/2+395 1fcc=397 1fd0*3=399 1fd6*5=399 1fe0*3=3a5 1fe4*2=3a1 1fe6*5=3a5 1fec=3a1 1ff2*3=3a9 1ff6*2=3a9 1ff8=39f
1ffa*2/2=3a9 2170*16+2160 24d0*26+24b6 ff41*26+ff21
"""
_SWEDISH_CI = """
000102030405060708090A0B0C0D0E0F101112131415161718191A1B1C1D1E1F202122232425262728292A2B2C2D2E2F3031323334353637
38393A3B3C3D3E3F404142434445464748494A4B4C4D4E4F505152535455565758595A5B5C5D5E5F604142434445464748494A4B4C4D4E4F
505152535455565758595A7B7C7D7E7F808182838485868788898A8B8C8D8E8F909192939495969798999A9B9C9D9E9FA0A1A2A3A4A5A6A7
A8A9AAABACADAEAFB0B1B2B3B4B5B6B7B8B9BABBBCBDBEBF414141415C5B5C434545454549494949444E4F4F4F4F5DD7D85555555959DEDF
414141415C5B5C434545454549494949444E4F4F4F4F5DF7D85555555959DEFF
"""
_RUN = re.compile(r"([0-9a-f]+)(?:\*(\d+))?(/2)?([=+])([0-9a-f]+)")
BEYOND = 0xFFFD  # every character beyond the first 65,536 weighs this


@cache
def general_ci() -> dict[int, int]:
    """utf8mb3_general_ci and utf8mb4_general_ci: characters with another weight than their own number."""
    weights: dict[int, int] = {}
    for first, count, every_second, kind, weight in _RUN.findall(_GENERAL_CI):
        step = 2 if every_second else 1
        for place in range(int(count or 1)):
            weights[int(first, 16) + place * step] = int(weight, 16) + (place * step if kind == "+" else 0)
    return weights


@cache
def swedish_ci() -> bytes:
    """latin1_swedish_ci: the weight of each of the 256 bytes."""
    return bytes.fromhex(_SWEDISH_CI)
