<?xml version="1.0" encoding="UTF-8"?>
<!-- How the names of Saltmarsh Ferries are said. Everything here is made up. -->
<lexicon version="1.0" xmlns="http://www.w3.org/2005/01/pronunciation-lexicon" alphabet="ipa" xml:lang="en-GB">
  <lexeme>
    <grapheme>Gullsay</grapheme>
    <phoneme>ˈɡʌlzeɪ</phoneme>
    <alias>Gull-zay</alias>
  </lexeme>
  <lexeme>
    <grapheme>Wherrigate</grapheme>
    <alias>Werry Gate</alias>
  </lexeme>
  <lexeme>
    <grapheme>MV Marram</grapheme>
    <grapheme>the Marram</grapheme>
    <alias>the motor vessel Marram</alias>
  </lexeme>
  <lexeme>
    <grapheme>SF</grapheme>
    <alias>Saltmarsh Ferries</alias>
  </lexeme>
</lexicon>
