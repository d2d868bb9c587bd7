<?php
declare(strict_types=1);

namespace Gerastic;

/** Bytes, where a string would be text: in a key, or in CBOR. */
final class Bytes
{
    public function __construct(public readonly string $bytes)
    {
    }
}
